import uuid

import django.db.models.deletion
from django.db import migrations, models


def into_the_outbox(apps, schema_editor):
    """What was kept is asked for in the outbox: delivered, waiting, or to be lifted again."""
    requests = apps.get_model("outbox", "SiteRequest")
    for kept in apps.get_model("runs", "KeptFence").objects.select_related("run"):
        at = kept.asked_at or kept.delivered_at or kept.run.started_at
        common = {
            "site": kept.site, "subject": kept.workload, "by": f"run {kept.run_id}", "asked_at": at,
            "not_before": at, "insists": True,
        }  # fmt: skip
        fence = int(at.timestamp() * 1000)
        if kept.lift:
            for verb, args in (("lift-fence", {}), ("power-on", {"unless_on": True})):
                requests.objects.create(token=uuid.uuid4().hex, verb=verb, args=args, fence=fence, **common)
            kept.delete()
            continue
        done = {}
        if kept.delivered_at:
            result = {"was_running": kept.found_running}
            done = {
                "status": "done", "result": result, "sent_at": at, "settled_at": kept.delivered_at,
            }  # fmt: skip
        kept.request = requests.objects.create(
            token=uuid.uuid4().hex, verb="fence", args={"cut": True}, fence=fence, **common, **done
        )
        kept.save()


class Migration(migrations.Migration):
    dependencies = [
        ("outbox", "0001_first_tables"),
        ("runs", "0007_fences_asked"),
    ]

    operations = [
        migrations.AddField(
            model_name="keptfence",
            name="request",
            field=models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.PROTECT,
                related_name="fences",
                to="outbox.siterequest",
            ),
        ),
        migrations.AddField(
            model_name="keptfence",
            name="given_up",
            field=models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.PROTECT,
                related_name="given_up",
                to="outbox.siterequest",
            ),
        ),
        migrations.RunPython(into_the_outbox, migrations.RunPython.noop),
        migrations.AlterField(
            model_name="keptfence",
            name="request",
            field=models.ForeignKey(
                on_delete=django.db.models.deletion.PROTECT,
                related_name="fences",
                to="outbox.siterequest",
            ),
        ),
        migrations.RemoveField(model_name="keptfence", name="asked_at"),
        migrations.RemoveField(model_name="keptfence", name="tries"),
        migrations.RemoveField(model_name="keptfence", name="delivered_at"),
        migrations.RemoveField(model_name="keptfence", name="found_running"),
        migrations.RemoveField(model_name="keptfence", name="lift"),
    ]
