"""The survey: one streaming pass that measures a recording and lists its faults as findings."""
