"""Playing versions: an engine that pulls, and the outputs it feeds. No Qt in here."""
