"""Open file formats, one module each: what is written for the next person, and read back."""
