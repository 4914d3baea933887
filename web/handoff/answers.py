"""Files as answers."""

import tempfile
from collections.abc import Callable
from pathlib import Path

from django.conf import settings
from django.http import FileResponse, HttpResponse


def download(data: bytes | str, name: str, content_type: str) -> HttpResponse:
    """A file that the browser saves under a name."""
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return HttpResponse(data, content_type=content_type, headers=headers)


def made_file(make: Callable[[Path], None], name: str, content_type: str) -> FileResponse:
    """A large file that `make(path)` writes, sent bit by bit.

    It has no name any more once it is open: it goes away with the answer, however that ends.
    """
    with tempfile.TemporaryDirectory(dir=settings.FILE_UPLOAD_TEMP_DIR) as folder:
        path = Path(folder) / "made"
        path = path.with_suffix(Path(name).suffix)
        make(path)
        file = open(path, "rb")  # noqa: SIM115 - the answer closes it
    return FileResponse(file, as_attachment=True, filename=name, content_type=content_type)
