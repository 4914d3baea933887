"""Runs the tests on all cores, each process with a data folder of its own beside its own
database."""

import tempfile
from pathlib import Path

from django.conf import settings
from django.db import connection
from django.test import SimpleTestCase
from django.test.runner import DiscoverRunner, ParallelTestSuite, _init_worker


def _begin(*args, **kwargs):
    """What each process does first."""
    _init_worker(*args, **kwargs)
    settings.DATA = Path(tempfile.mkdtemp(prefix="process-", dir=settings.DATA))


def _forgetful(tear_down):
    """After each test nothing is left of the states that it read, and none of them was changed in
    place."""

    def ends(test):
        from web.shows import shared_states

        spoilt = shared_states.forget()
        tear_down(test)
        assert not spoilt, f"{test} changed a saved state in place: {spoilt}"

    return ends


SimpleTestCase._post_teardown = _forgetful(SimpleTestCase._post_teardown)


class Suite(ParallelTestSuite):
    """Django's, with `_begin`."""

    init_worker = _begin


class Runner(DiscoverRunner):
    """Django's, with Suite."""

    parallel_test_suite = Suite

    def setup_databases(self, **kwargs):
        """As Django does; but each process gets a copy of the database's file, and what lies beside
        it in the journal must be in it by then."""
        clone = connection.creation.clone_test_db

        def whole(*args, **more):
            with connection.cursor() as cursor:
                cursor.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            clone(*args, **more)

        connection.creation.clone_test_db = whole
        return super().setup_databases(**kwargs)
