from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("cast", "0003_takes_moved"), ("shoot", "0005_the_simulated_stage_moves_out")]

    operations = [migrations.RemoveField("performer", "body_seed")]
