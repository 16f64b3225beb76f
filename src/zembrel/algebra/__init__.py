"""What formulas and classes are made of: named layers, indices, rules, codes, levels."""
