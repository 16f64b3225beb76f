"""Jobs run: steps as chains, one after the other or several at once."""
