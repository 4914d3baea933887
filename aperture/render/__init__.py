"""The renderer that ships with the program: rays through Camera.rays(), intersections by embree."""
