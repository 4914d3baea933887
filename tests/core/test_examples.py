"""The examples in the docstrings of the core say what comes out."""

import doctest
from unittest import TestCase

import numpy as np

import aperture.camera
import aperture.formats.names
import aperture.geometry.grid
import aperture.lens.lens
import aperture.light.exposure
import aperture.light.focus
import aperture.light.scales
import aperture.moves.keys
import aperture.units

MODULES = (
    aperture.camera,
    aperture.formats.names,
    aperture.geometry.grid,
    aperture.lens.lens,
    aperture.light.exposure,
    aperture.light.focus,
    aperture.light.scales,
    aperture.moves.keys,
    aperture.units,
)


class Examples(TestCase):
    def test_examples(self):
        for module in MODULES:
            with self.subTest(module.__name__):
                # Some libraries change how NumPy prints.
                with np.printoptions(legacy=False):
                    failed, tried = doctest.testmod(module)
                self.assertGreater(tried, 0)
                self.assertEqual(failed, 0)
