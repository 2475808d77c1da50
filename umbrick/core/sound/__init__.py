"""Recordings as sources of frames: formats, opening, decoding, peak pyramids, metadata and saving."""
