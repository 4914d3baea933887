"""The set: stand-ins of known size, and the ground they stand on."""
