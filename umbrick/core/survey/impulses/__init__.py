"""What linear prediction does not foretell: impulses, what damage they are, and breaks."""
