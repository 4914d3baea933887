"""Two paths that may both be true: which one the sightings speak for."""

from unittest import mock

import numpy as np
from django.test import SimpleTestCase

from aperture.path.doubts import more_misfit


class Rivals(SimpleTestCase):
    def test_sightings_that_only_one_uses_speak_for_neither(self):
        """A path isn't better for leaving out what it can't explain."""

        def network(sigmas, facts_chi2=0.0, facts=3):
            own = mock.Mock(sigmas=np.array(sigmas), facts_chi2=facts_chi2)
            own.facts.rows.return_value = [None] * facts
            return own

        rng = np.random.default_rng(4)
        noise = np.sqrt((rng.normal(size=(30, 40, 2)) ** 2).sum(axis=2))
        fewer = noise.copy()
        fewer[:, :8] = np.nan
        apart = more_misfit(network(noise), network(fewer))
        self.assertLess(abs(apart.squares), 60)  # of 480 that miss
        self.assertGreater(apart.share, 0.05)
        bad = noise.copy()
        bad[:, 8:30] *= 1.2
        apart = more_misfit(network(bad), network(noise))
        self.assertGreater(apart.squares, 100)
        self.assertLess(apart.share, 1e-3)
        self.assertAlmostEqual(more_misfit(network(noise, 9.0), network(noise)).squares, 9.0)
        # Nor for losing a fact that it would contradict.
        apart = more_misfit(network(noise, 0.0, facts=1), network(noise, 9.0))
        self.assertGreater(apart.squares, 30)
        one, other = network(bad), network(fewer)
        both = more_misfit(one, other), more_misfit(other, one)
        self.assertAlmostEqual(both[0].squares, -both[1].squares)
        self.assertAlmostEqual(both[0].share, both[1].share)

    def test_a_few_tracks_that_slide_decide_nothing(self):
        rng = np.random.default_rng(5)
        noise = np.sqrt((rng.normal(size=(30, 40, 2)) ** 2).sum(axis=2))
        slides = noise.copy()
        slides[:, :3] *= 8
        own = [mock.Mock(sigmas=sigmas, facts_chi2=0.0) for sigmas in (slides, noise)]
        for one in own:
            one.facts.rows.return_value = []
        apart = more_misfit(*own)
        self.assertEqual(apart.squares, 27.0)
        self.assertGreater(apart.share, 0.02)
