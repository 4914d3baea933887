"""Reading pictures: their pixels, their size, what their files know."""
