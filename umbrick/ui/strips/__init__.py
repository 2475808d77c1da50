"""The three linked strips: Whole, Passage, Loupe."""
