"""Where on the Earth: ellipsoids, datums, projections, CRSs and the operations between them."""
