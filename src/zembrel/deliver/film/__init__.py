"""Films of dated images."""
