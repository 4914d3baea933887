"""The examples in the docstrings of the core say what comes out."""

import doctest
from unittest import TestCase

import aperture.camera
import aperture.formats.names
import aperture.geometry.grid
import aperture.lens.lens
import aperture.moves.keys
import aperture.units

MODULES = (
    aperture.camera,
    aperture.formats.names,
    aperture.geometry.grid,
    aperture.lens.lens,
    aperture.moves.keys,
    aperture.units,
)


class Examples(TestCase):
    def test_examples(self):
        for module in MODULES:
            with self.subTest(module.__name__):
                failed, tried = doctest.testmod(module)
                self.assertGreater(tried, 0)
                self.assertEqual(failed, 0)
