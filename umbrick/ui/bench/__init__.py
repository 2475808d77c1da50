"""The bench's state and what can be done with it; widgets show it and send it commands."""
