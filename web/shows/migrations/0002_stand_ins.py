"""What stood as “boxes” in a shot's document are stand-ins, of which a box is one kind."""

from django.db import migrations


def rename(old, new):
    def run(apps, schema_editor):
        Revision = apps.get_model("shows", "Revision")
        for revision in Revision.objects.iterator(chunk_size=200):
            if old in revision.state:
                revision.state[new] = revision.state.pop(old)
                revision.save(update_fields=["state"])
    return run


class Migration(migrations.Migration):

    dependencies = [("shows", "0001_initial")]
    operations = [migrations.RunPython(rename("boxes", "stand_ins"), rename("stand_ins", "boxes"))]
