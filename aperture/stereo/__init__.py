"""Stereo: pairs of cameras, what an audience sees of them, pictures packed for two eyes."""
