"""Speed and quality figures; run with ``./run bench``."""
