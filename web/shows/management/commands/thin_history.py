"""`manage.py thin_history`: remove old revisions of the shows that ask for it."""

from datetime import timedelta

from django.core.management.base import BaseCommand
from django.utils import timezone

from web.shows.models import Show
from web.shows.thinning import forget_parts, thin


class Command(BaseCommand):
    """Meant to be run once a day; does nothing for shows whose settings name no number of days."""

    help = "Remove revisions older than each show's settings say; named and used ones stay."

    def handle(self, *args, **options):
        """Thin, and say what went."""
        count = 0
        for show in Show.objects.filter(thin_days__isnull=False):
            before = timezone.now() - timedelta(days=show.thin_days or 0)
            count += sum(thin(shot, before) for shot in show.shots.all())
        parts = forget_parts()
        self.stdout.write(f"{count} revisions and {parts} of their parts removed.")
