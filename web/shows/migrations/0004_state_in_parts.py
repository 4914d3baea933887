"""The state of a revision is stored in parts, each by its digest, once for all revisions that share it."""

import hashlib
import json

from django.db import migrations, models

LARGEST_INLINE = 32_768
KEPT = "Kept from another window: "


def into_parts(apps, schema_editor):
    from web.blobs import store

    Revision, StatePart = apps.get_model("shows", "Revision"), apps.get_model("shows", "StatePart")
    for revision in Revision.objects.iterator(chunk_size=100):
        rows = []
        for key, value in revision.state.items():
            text = json.dumps(
                value, sort_keys=True, separators=(",", ":"), ensure_ascii=False
            ).encode(errors="replace").decode()
            revision.parts[key] = hashlib.sha256(text.encode()).hexdigest()
            if len(text) > LARGEST_INLINE:
                store.put(text.encode())
            else:
                rows.append(StatePart(digest=revision.parts[key], text=text))
        StatePart.objects.bulk_create(rows, ignore_conflicts=True)
        revision.kept = revision.label.startswith(KEPT)
        revision.save(update_fields=["parts", "kept"])


def into_one(apps, schema_editor):
    from web.blobs import store

    Revision, StatePart = apps.get_model("shows", "Revision"), apps.get_model("shows", "StatePart")
    for revision in Revision.objects.iterator(chunk_size=100):
        texts = dict(
            StatePart.objects.filter(digest__in=revision.parts.values()).values_list(
                "digest", "text"
            )
        )
        revision.state = {
            key: json.loads(texts.get(digest) or store.get(digest))
            for key, digest in revision.parts.items()
        }
        revision.save(update_fields=["state"])


def field(name, kind):
    return migrations.AddField(model_name="revision", name=name, field=kind)


class Migration(migrations.Migration):
    dependencies = [("shows", "0003_kept")]

    operations = [
        migrations.CreateModel(
            name="StatePart",
            fields=[
                ("digest", models.CharField(max_length=64, primary_key=True, serialize=False)),
                ("text", models.TextField()),
            ],
        ),
        migrations.AddField(
            model_name="show",
            name="thin_days",
            field=models.PositiveIntegerField(blank=True, null=True),
        ),
        field("version", models.PositiveIntegerField(default=1)),
        field("parts", models.JSONField(default=dict)),
        field("kept", models.BooleanField(default=False)),
        field("folded", models.BooleanField(default=False)),
        field("run", models.CharField(blank=True, max_length=60)),
        field("alone", models.BooleanField(default=False)),
        field("name", models.CharField(blank=True, max_length=60)),
        field("handed_off", models.BooleanField(default=False)),
        migrations.AlterField(
            model_name="revision", name="state", field=models.JSONField(default=dict)
        ),
        migrations.RunPython(into_parts, into_one),
        migrations.RemoveField(model_name="revision", name="state"),
    ]
