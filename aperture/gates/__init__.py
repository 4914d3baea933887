"""What area of what sensor made these pixels: grids, standard formats, angles of view, checks."""
