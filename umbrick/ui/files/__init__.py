"""What is done with files: opening, saving, putting back, reports, and which casebook the work is in."""
