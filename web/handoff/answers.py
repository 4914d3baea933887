"""A file as an answer."""

from django.http import HttpResponse


def download(data: bytes | str, name: str, content_type: str) -> HttpResponse:
    """A file that the browser saves under a name."""
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return HttpResponse(data, content_type=content_type, headers=headers)
