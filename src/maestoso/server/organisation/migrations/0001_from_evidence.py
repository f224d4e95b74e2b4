from django.db import migrations, models


class Migration(migrations.Migration):
    initial = True

    dependencies = [
        ("evidence", "0003_settings_of_the_organisation"),
    ]

    operations = [
        migrations.SeparateDatabaseAndState(
            state_operations=[
                migrations.CreateModel(
                    name="Organisation",
                    fields=[
                        (
                            "id",
                            models.BigAutoField(
                                auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                            ),
                        ),
                        ("organisation", models.CharField(max_length=120)),
                        ("words", models.TextField(blank=True)),
                        ("logo", models.BinaryField(null=True)),
                        ("keep_days", models.PositiveIntegerField(default=0)),
                        ("revision", models.PositiveIntegerField(default=1)),
                    ],
                ),
            ]
        ),
        migrations.AddField(
            model_name="organisation",
            name="time_zone",
            field=models.CharField(default="UTC", max_length=60),
        ),
    ]
