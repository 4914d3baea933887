from django.apps import AppConfig


class PeopleConfig(AppConfig):
    name = "web.people"

    def ready(self):
        from django.db.models.signals import post_save

        from web.people import machine  # noqa: F401  (registers its check)
        from web.people.founding import lead
        from web.people.pictures import remember
        from web.shows.models import Revision, Show

        post_save.connect(remember, sender=Revision, dispatch_uid="people.pictures")
        post_save.connect(lead, sender=Show, dispatch_uid="people.founding")
