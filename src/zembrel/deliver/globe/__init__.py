"""KMZ for virtual globes: pictures as a tree of regions, features, and a key (OGC 07-147r2, KML 2.2)."""
