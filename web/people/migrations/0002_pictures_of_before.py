"""The pictures of all revisions that were made before it was noted whose they are."""

import json

from django.db import migrations

PARTS = ("plate", "film")


def note(apps, schema_editor):
    """One row for each shot and picture."""
    texts = dict(apps.get_model("shows", "StatePart").objects.values_list("digest", "text"))
    pairs = set()
    for shot, parts in apps.get_model("shows", "Revision").objects.values_list("shot_id", "parts").iterator():
        for part in PARTS:
            told = json.loads(texts.get(parts.get(part), "null"))
            if isinstance(told, dict) and "digest" in told:
                pairs.add((told["digest"], shot))
    model = apps.get_model("people", "PictureOf")
    rows = [model(digest=digest, shot_id=shot) for digest, shot in sorted(pairs)]
    model.objects.bulk_create(rows, ignore_conflicts=True, batch_size=500)


class Migration(migrations.Migration):
    dependencies = [("people", "0001_initial"), ("shows", "0007_revision_by")]
    operations = [migrations.RunPython(note, migrations.RunPython.noop)]
