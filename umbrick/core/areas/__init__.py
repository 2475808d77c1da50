"""Areas: selections in time and frequency, how they are found, and what is done to the sound in them."""
