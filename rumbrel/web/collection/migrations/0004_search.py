"""An index of the words by which tracks are searched (SQLite's FTS5), kept by triggers.

Django rebuilds a table of SQLite when a later migration alters it, which drops its triggers: such a migration
of trackfacts must end with `search_triggers` again.
"""

from django.db import migrations

TABLE = """
CREATE VIRTUAL TABLE collection_words USING fts5(
    words, content='collection_trackfacts', content_rowid='track_id',
    tokenize='unicode61 remove_diacritics 2', prefix='2 3'
)
"""
TRIGGERS = {
    "collection_words_insert": """AFTER INSERT ON collection_trackfacts BEGIN
        INSERT INTO collection_words(rowid, words) VALUES (new.track_id, new.words);
    END""",
    "collection_words_delete": """AFTER DELETE ON collection_trackfacts BEGIN
        INSERT INTO collection_words(collection_words, rowid, words) VALUES ('delete', old.track_id, old.words);
    END""",
    "collection_words_update": """AFTER UPDATE ON collection_trackfacts BEGIN
        INSERT INTO collection_words(collection_words, rowid, words) VALUES ('delete', old.track_id, old.words);
        INSERT INTO collection_words(rowid, words) VALUES (new.track_id, new.words);
    END""",
}


def search_triggers():
    return [
        migrations.RunSQL(f"CREATE TRIGGER {name} {body}", f"DROP TRIGGER {name}") for name, body in TRIGGERS.items()
    ]


class Migration(migrations.Migration):

    dependencies = [("collection", "0003_rooms")]

    operations = [migrations.RunSQL(TABLE, "DROP TABLE collection_words"), *search_triggers()]
