"""The report of what was found and done: JSON for programs, a table, and a page with pictures for people."""
