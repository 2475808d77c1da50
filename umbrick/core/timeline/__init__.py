"""Pieces, versions, position maps and history: what an edit is, and how it is taken back."""
