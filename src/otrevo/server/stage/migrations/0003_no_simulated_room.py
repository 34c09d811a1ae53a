from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("stage", "0002_steps_are_runs"), ("shoot", "0005_the_simulated_stage_moves_out")]

    operations = [migrations.RemoveField("room", "seed"), migrations.RemoveField("room", "knocks")]
