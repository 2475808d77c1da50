"""What is done to an area in time and frequency."""
