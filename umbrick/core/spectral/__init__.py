"""Sound in time and frequency: overlapping spectra on a grid that is the same wherever one begins to read."""
