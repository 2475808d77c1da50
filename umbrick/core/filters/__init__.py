"""Windows and recursive filters that do not need SciPy's signal package, which takes two seconds to load."""
