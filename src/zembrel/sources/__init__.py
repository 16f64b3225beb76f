"""Sources: remote services described in small files, and what they give as layers."""
