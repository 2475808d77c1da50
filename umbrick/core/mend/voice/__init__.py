"""Mends of a voice: what is too strong in one band is brought to what the voice has there elsewhere."""
