"""What is open and what was decided about it, without Qt: window, command line and programs stand on it."""
