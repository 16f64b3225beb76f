"""Point clouds: their model, their files, and what is made of them."""
