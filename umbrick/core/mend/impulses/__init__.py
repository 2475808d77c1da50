"""Rebuilding clicks, crackle and single samples, and taking out the thumps they set going."""
