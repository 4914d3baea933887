"""Can these numbers all be true? Each finding says what is wrong, by how much, and what would
plausibly explain it.

A remedy carries the whole gate document (see `chain`) that it would make, so that taking one is
replacing the document.
"""

from aperture.gates.checks.aspect import AspectCheck, check_aspect
from aperture.gates.checks.edits import new_id, without
from aperture.gates.checks.file_focal import check_file_focal
from aperture.gates.checks.findings import Finding, Remedy
from aperture.gates.checks.render import check_render
from aperture.gates.checks.sizes import check_sizes

__all__ = [
    "AspectCheck",
    "Finding",
    "Remedy",
    "check_aspect",
    "check_file_focal",
    "check_render",
    "check_sizes",
    "new_id",
    "without",
]
