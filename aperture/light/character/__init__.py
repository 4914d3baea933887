"""What a lens and a sensor make of a picture beyond geometry and exposure: previewed, and not
delivered by default."""
