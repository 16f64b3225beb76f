"""What verbs do for points."""
