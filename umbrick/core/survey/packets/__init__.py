"""What a line makes up for lost packets."""
