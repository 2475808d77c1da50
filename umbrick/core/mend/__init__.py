"""Repairs: pure functions from damaged sound to rebuilt samples, a registry of them, and how they are applied."""
