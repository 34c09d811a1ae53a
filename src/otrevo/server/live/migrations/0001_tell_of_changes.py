"""Every change of these tables is told to whoever listens, by the database itself: no code can forget it."""

from django.db import migrations

CHANNEL = "otrevo_changed"
# table: what a row is about, as {word: column}
TABLES = {
    "work_run": {"take": "take_id", "room": "room_id", "package": "package_id", "state": "state"},
    "takes_take": {"take": "id", "slate": "slate_id"},
    "takes_mend": {"take": "take_id"},
    "takes_change": {"take": "take_id"},
    "takes_appearance": {"take": "take_id"},
    "handover_package": {"production": "production_id"},
    "floor_rolling": {"slate": "slate_id"},
    "shoot_slate": {"day": "day_id"},
    "shoot_shootday": {"production": "production_id"},
    "cast_performer": {"production": "production_id"},
    "cast_performercalibration": {"performer": "performer_id"},
    "stage_room": {"production": "production_id"},
    "stage_blinds": {"room": "room_id"},
    "stage_stagerecording": {"room": "room_id"},
    "stage_stagecalibration": {"room": "room_id"},
}
FUNCTION = f"""
CREATE OR REPLACE FUNCTION otrevo_tell() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    changed record;
    about jsonb := jsonb_build_object('table', TG_TABLE_NAME);
    value text;
BEGIN
    IF TG_OP = 'DELETE' THEN changed := OLD; ELSE changed := NEW; END IF;
    FOR i IN 0 .. TG_NARGS / 2 - 1 LOOP
        EXECUTE format('SELECT ($1).%I::text', TG_ARGV[2 * i + 1]) USING changed INTO value;
        IF value IS NOT NULL THEN about := about || jsonb_build_object(TG_ARGV[2 * i], value); END IF;
    END LOOP;
    PERFORM pg_notify('{CHANNEL}', about::text);
    RETURN NULL;
END $$
"""


def _triggers():
    for table, about in TABLES.items():
        words = ", ".join(f"'{word}', '{column}'" for word, column in about.items())
        yield migrations.RunSQL(
            f"CREATE TRIGGER otrevo_tell AFTER INSERT OR UPDATE OR DELETE ON {table} FOR EACH ROW "
            f"EXECUTE FUNCTION otrevo_tell({words})",
            f"DROP TRIGGER otrevo_tell ON {table}",
        )


class Migration(migrations.Migration):
    initial = True
    dependencies = [
        ("work", "0004_about_one_thing"), ("takes", "0005_one_name_for_each_subject"), ("stage", "0002_steps_are_runs"),
        ("handover", "0003_remove_package_progress"), ("cast", "0003_takes_moved"), ("shoot", "0004_takes_moved"),
        ("floor", "0003_rolling_circled_rolling_note"),
    ]  # fmt: skip
    operations = [migrations.RunSQL(FUNCTION, "DROP FUNCTION otrevo_tell()"), *_triggers()]
