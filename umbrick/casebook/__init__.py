"""The casebook: one SQLite file that keeps recordings' references, findings, mends, markers and notes."""
