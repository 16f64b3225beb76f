"""Jobs run: steps as units, one after the other or several at once."""
