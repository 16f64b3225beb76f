"""LAS files, plain and compressed: LAS Specification 1.4 R15, which tells of 1.0 to 1.3 too."""
