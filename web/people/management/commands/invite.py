"""`manage.py invite`: a link, to be used once, by which somebody makes their account."""

from django.contrib.auth.models import User
from django.core.management.base import BaseCommand

from web.people.access import LOCAL_ARTIST
from web.people.tickets import invite


class Command(BaseCommand):
    """The first one invited keeps the installation; others do where that is asked for."""

    help = __doc__

    def add_arguments(self, parser):
        """Whether they keep the installation."""
        parser.add_argument("--keeper", action="store_true")

    def handle(self, keeper, **_):
        """Print the address."""
        first = not User.objects.exclude(username=LOCAL_ARTIST).exists()
        row, secret = invite(None, admin=keeper or first)
        self.stdout.write(f"/welcome/{secret}  (once, until {row.ends:%Y-%m-%d})")
