"""What everything else is built on: grids of pixels, angles of view, rotations. It knows no lens
and no camera."""
