"""Flat tops, and the rails they lie on."""
