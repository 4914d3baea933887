from django.apps import AppConfig


class BlobsConfig(AppConfig):
    name = "web.blobs"
