"""Sound that comes again: exactly, nearly, as a cycle that is held, or spoken anew."""
