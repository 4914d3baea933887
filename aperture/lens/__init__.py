"""What a lens does between camera space and the sensor's millimetres."""
