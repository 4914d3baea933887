"""Benchmarks with their references; `python -m bench`. One BLAS thread, as the server has."""

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
os.environ.setdefault("APERTURE_LOCAL", "1")  # the artist of this machine is signed in by itself
