"""`manage.py collect_garbage`: remove stored data that nothing refers to any more."""

from django.core.management.base import BaseCommand, CommandError

from web.blobs import store
from web.blobs.in_use import digests_in_use, sweeps

HOUR = 3600


class Command(BaseCommand):
    """Asks all apps what is in use, and sweeps the rest."""

    help = "Remove stored data that no revision, job, fit or render refers to any more."

    def add_arguments(self, parser):
        """How long the grace period is, and whether to remove and to check."""
        parser.add_argument(
            "--grace-hours",
            type=float,
            default=24.0,
            help="how long what was stored last stays in any case",
        )
        parser.add_argument("--dry-run", action="store_true", help="only say what would go")
        parser.add_argument(
            "--verify", action="store_true", help="also read all that is in use, and check it"
        )

    def handle(self, *args, **options):
        """Sweep, and say what went. CommandError where stored data can't be trusted."""
        if options["grace_hours"] < 0:
            raise CommandError("--grace-hours can't be negative.")
        in_use = digests_in_use()
        gone = store.sweep(in_use, options["grace_hours"] * HOUR, options["dry_run"])
        verb = "would be removed" if options["dry_run"] else "removed"
        size = sum(size for _, size in gone) / 1e6
        self.stdout.write(f"{len(gone)} pieces of stored data {verb}, {size:.1f} MB.")
        for sweep in sweeps:
            for name, size in sweep(options["grace_hours"] * HOUR, options["dry_run"]):
                self.stdout.write(f"“{name}” {verb}, {size / 1e6:.1f} MB.")
        if options["verify"]:
            self._verify(in_use)

    def _verify(self, in_use):
        bad = []
        for digest in sorted(in_use):
            try:
                store.verify(digest)
            except store.Missing as problem:
                bad.append(problem.sentence)
        for sentence in bad:
            self.stderr.write(sentence)
        if bad:
            raise CommandError(f"{len(bad)} pieces of stored data can't be trusted.")
        self.stdout.write("All stored data in use is as it was written.")
