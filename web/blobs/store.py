"""The content-addressed store: what grows with frames, tracks or points, each thing under its
SHA-256.

A blob never changes. Whoever refers to one holds its digest; the same content is stored once. A
blob is written beside its place, synced, and renamed, so that it is there whole or not at all.
"""

import fcntl
import hashlib
import io
import os
import re
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
from django.conf import settings

from aperture.errors import Problem

DIGEST = re.compile(r"[0-9a-f]{64}")


class Missing(Problem):
    """A blob isn't in the store, or isn't what its digest says."""


def home() -> Path:
    """The store's folder; on one machine part of the data folder, beyond it a shared one."""
    return Path(settings.DATA) / "blobs"


def path_of(digest: str) -> Path:
    """Where a blob's file is, or would be."""
    if not DIGEST.fullmatch(digest):
        raise Missing(f"“{digest[:80]}” is no digest of stored data.")
    return home() / digest[:2] / digest


def put(data: bytes) -> str:
    """Store bytes; their digest."""
    digest = hashlib.sha256(data).hexdigest()
    with _kept(digest) as there:
        if not there:
            _settle(digest, data)
    return digest


def put_arrays(**arrays: np.ndarray) -> str:
    """Store arrays under their names, as NumPy's `.npz`; the same arrays have the same digest."""
    packed = io.BytesIO()
    np.savez(packed, allow_pickle=False, **arrays)
    return put(packed.getvalue())


def get(digest: str) -> bytes:
    """A blob's bytes. Raises Missing."""
    try:
        return path_of(digest).read_bytes()
    except FileNotFoundError:
        raise Missing(f"Stored data {digest[:12]} is missing from the data folder.") from None


def get_arrays(digest: str) -> dict[str, np.ndarray]:
    """A blob's arrays by their names. Raises Missing."""
    with np.load(io.BytesIO(get(digest)), allow_pickle=False) as packed:
        return {name: packed[name] for name in packed.files}


def exists(digest: str) -> bool:
    """Whether a blob is in the store."""
    return path_of(digest).is_file()


def verify(digest: str) -> None:
    """Raise Missing where a blob isn't there, or its bytes have changed on the disk."""
    try:
        with open(path_of(digest), "rb") as file:
            found = hashlib.file_digest(file, "sha256").hexdigest()
    except FileNotFoundError:
        raise Missing(f"Stored data {digest[:12]} is missing from the data folder.") from None
    if found != digest:
        raise Missing(f"Stored data {digest[:12]} has changed on the disk: its copy is damaged.")


def digests() -> Iterator[str]:
    """Every blob in the store."""
    for path in home().glob("??/*"):
        if DIGEST.fullmatch(path.name):
            yield path.name


def sweep(in_use: set[str], grace_seconds: float, dry: bool = False) -> list[tuple[str, int]]:
    """Remove what isn't `in_use` and wasn't asked for within the grace period; (digest, bytes) of
    each.

    The grace period covers what was stored a moment ago and isn't referred to yet.
    """
    gone = []
    with _locked(fcntl.LOCK_EX):
        for digest in digests():
            path = path_of(digest)
            found = path.stat()
            if digest in in_use or time.time() - found.st_mtime < grace_seconds:
                continue
            gone.append((digest, found.st_size))
            if not dry:
                path.unlink()
        for left in home().glob("incoming-*"):
            if not dry and time.time() - left.stat().st_mtime >= grace_seconds:
                left.unlink()
    return gone


@contextmanager
def _locked(how):
    """Storing may go on at once in many processes, never while a sweep removes."""
    home().mkdir(parents=True, exist_ok=True)
    with open(home() / ".lock", "w") as file:
        fcntl.flock(file, how)
        yield


@contextmanager
def _kept(digest):
    """Whether the blob is there already; then its grace period begins anew."""
    path = path_of(digest)
    with _locked(fcntl.LOCK_SH):
        there = path.is_file()
        if there:
            os.utime(path)
        yield there


def _settle(digest, data: bytes):
    path = path_of(digest)
    path.parent.mkdir(exist_ok=True)
    handle, name = tempfile.mkstemp(prefix="incoming-", dir=home())
    try:
        with open(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        os.replace(name, path)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise
    for folder in (path.parent, home()):
        _sync(folder)


def _sync(folder: Path) -> None:
    """A renamed file is on the disk only once its folder is."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
