"""Indices of the literature: what each computes, of which bands, and who published it."""
