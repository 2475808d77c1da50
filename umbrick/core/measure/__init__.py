"""Measures of whole recordings: levels, true peak, loudness, noise floor, and the prognosis drawn from them."""
