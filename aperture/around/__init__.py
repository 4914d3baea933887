"""Panoramas: cut into ordinary views and joined again, their layouts, and how they are looked
at."""
