from django.apps import AppConfig


class NotesConfig(AppConfig):
    name = "web.notes"
