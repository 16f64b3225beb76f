"""Jobs: steps in a file, what of them has to run, and what is known of the last run."""
