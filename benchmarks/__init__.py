"""Speed and quality figures; run with ``./run bench``."""

import umbrick as umbrick  # before numpy: it says how many threads linear algebra gets
