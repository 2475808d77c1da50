"""The detectors: one for each kind of finding."""
