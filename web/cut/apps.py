from django.apps import AppConfig


class CutConfig(AppConfig):
    name = "web.cut"
