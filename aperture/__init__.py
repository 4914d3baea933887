"""The core of Accurate Aperture: NumPy in, NumPy out. No web, no database, no global state."""
