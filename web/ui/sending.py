"""Files of the data folder as answers: sent from here, or by the proxy before it."""

from pathlib import Path
from urllib.parse import quote

from django.conf import settings
from django.http import FileResponse, HttpResponse
from django.http.response import HttpResponseBase
from django.utils.http import content_disposition_header


def sent(path: Path, content_type: str, name: str = "", save: bool = False) -> HttpResponseBase:
    """Answer with a file of the data folder.

    Parameters
    ----------
    path : Path
    content_type : str
    name : str
        What it is called where it is saved.
    save : bool
        Whether the browser saves it, and doesn't show it.

    Raises FileNotFoundError where there is none. Where `APERTURE_ACCEL` names the place under which
    nginx has the data folder for itself (`internal`), the answer only says which file it is, and
    nginx sends it.
    """
    inside = settings.ACCEL and path.is_relative_to(settings.DATA)
    if not inside:
        return FileResponse(
            open(path, "rb"), content_type=content_type, as_attachment=save, filename=name
        )
    if not path.is_file():
        raise FileNotFoundError(path)
    answer = HttpResponse(content_type=content_type)
    place = path.relative_to(settings.DATA).as_posix()
    answer["X-Accel-Redirect"] = f"{settings.ACCEL.rstrip('/')}/{quote(place)}"
    disposition = content_disposition_header(save, name)
    if disposition:
        answer["Content-Disposition"] = disposition
    return answer
