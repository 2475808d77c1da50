"""Models of sound: what is expected of samples, given those around them."""
