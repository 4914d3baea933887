"""Who makes a show leads it."""

from web.people.models import LEADS, Member
from web.shows.models import Show
from web.ui import who


def lead(sender, instance: Show, created: bool, **_) -> None:
    """Make whoever is at work the lead of a new show; who sees every show anyway needs no role."""
    person = who.now()
    if created and person is not None and not who.sees_everything():
        Member.objects.create(show=instance, user_id=person, role=LEADS)
