"""A regimen on many files: found, treated one by one in processes of their own, written down, and reported."""
