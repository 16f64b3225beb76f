"""The one grammar of conditions and formulas: parsed once to a tree, evaluated on whatever has names."""
