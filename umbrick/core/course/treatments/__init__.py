"""The treatments: one module each."""
