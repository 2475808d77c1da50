"""Recordings of one event on one clock: finding how they lie, and what each tells of the others."""
