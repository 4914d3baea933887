"""Meshes that came from files: kept by the digest of what they are, as plain arrays."""

import hashlib
import io
from functools import lru_cache

import numpy as np
from django.conf import settings

from aperture.errors import Problem
from aperture.scene.solids import Solid
from web.blobs.folders import write


def keep(vertices, triangles) -> str:
    """Store a mesh, vertices (V, 3) in the unit box and triangles (T, 3); its digest."""
    buffer = io.BytesIO()
    np.savez_compressed(
        buffer, vertices=np.asarray(vertices, np.float64), triangles=np.asarray(triangles, np.int32)
    )
    digest = hashlib.sha256(
        np.ascontiguousarray(vertices, np.float64).tobytes()
        + np.ascontiguousarray(triangles, np.int32).tobytes()
    ).hexdigest()
    path = _path(digest)
    if not path.exists():
        write(path, lambda incoming: incoming.write_bytes(buffer.getvalue()))
    return digest


@lru_cache(maxsize=32)
def solid(digest: str) -> Solid:
    """The solid of a mesh. Raises Problem where its file is gone."""
    try:
        with np.load(_path(digest)) as data:
            return Solid(data["vertices"], data["triangles"].astype(int))
    except (OSError, ValueError, KeyError) as error:
        raise Problem(
            "The mesh of this stand-in is missing from the data folder: bring its file in again."
        ) from error


def _path(digest):
    if not (len(digest) == 64 and digest.isalnum()):
        raise Problem("That is no mesh.")
    return settings.DATA / "meshes" / f"{digest}.npz"
