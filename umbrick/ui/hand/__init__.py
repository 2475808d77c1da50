"""Tools for working by hand."""
