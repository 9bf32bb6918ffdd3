"""Walk a fresh database through every state that ours ever had, put a row into every table in each, and see at the end that
all of them are there.

Prints the tables whose rows were lost.
"""

import datetime
from collections import Counter
from typing import Any

import django

django.setup()

from django.db import connection, models  # noqa: E402 - needs the settings
from django.db.migrations.executor import MigrationExecutor  # noqa: E402

_FOREIGN = ("contenttypes", "auth", "axes", "sessions")
_ALONE = {"bench.BenchChoice"}
"""Of these there was one row before each user had one of their own."""
_GONE = {"collection_scan"}
"""How scans ended, which jobs have said since."""
_NOON = datetime.datetime(2024, 5, 1, 12, tzinfo=datetime.UTC)


def value_of(field: Any, number: int) -> Any:
    """A value that no other row of the field has, where that can be."""
    values: tuple[tuple[type, Any], ...] = (
        (models.GenericIPAddressField, "192.0.2.7"), (models.BooleanField, False), (models.JSONField, []),
        (models.DateTimeField, _NOON + datetime.timedelta(seconds=number)), (models.FloatField, float(number)),
        (models.IntegerField, number), (models.BinaryField, b"x"), (models.TextField, f"a{number}"), (models.CharField, f"a{number}"),
    )  # fmt: skip
    return next(value for kind, value in values if isinstance(field, kind))


def row_of(model: Any, made: dict[str, Any], number: int) -> Any:
    """A row in a table, with rows in those that it leads to."""
    if model._meta.label in made:
        return made[model._meta.label]
    values = {}
    for field in model._meta.concrete_fields:
        if isinstance(field, models.ForeignKey):
            if field.null and field.related_model is not model or not field.null:
                values[field.name] = row_of(field.related_model, made, number)
        elif isinstance(field, (models.AutoField, models.GeneratedField)):
            continue
        elif field.unique or not (field.has_default() or field.null):
            values[field.name] = value_of(field, number)
    made[model._meta.label] = model.objects.create(**values)
    return made[model._meta.label]


def main() -> None:
    executor = MigrationExecutor(connection)
    plan = executor.migration_plan(executor.loader.graph.leaf_nodes())
    rows: Counter[str] = Counter()
    reached: dict[str, tuple[str, str]] = {}
    for number, (migration, _) in enumerate(plan, 1):
        reached[migration.app_label] = (migration.app_label, migration.name)
        executor = MigrationExecutor(connection)
        executor.migrate([reached[migration.app_label]], plan=[(migration, False)])
        if migration.app_label in _FOREIGN:
            continue
        made: dict[str, Any] = {}
        state = executor.loader.project_state(list(reached.values())).apps
        for model in state.get_models():
            alone = model._meta.label in _ALONE and rows[model._meta.db_table]
            if model._meta.app_label not in _FOREIGN and model._meta.managed and not alone:
                row_of(model, made, number)
        rows.update(row._meta.db_table for row in made.values())
    there = set(connection.introspection.table_names())
    with connection.cursor() as cursor:
        for table, count in rows.items():
            kept = cursor.execute(f'SELECT count(*) FROM "{table}"').fetchone()[0] if table in there else 0
            if kept < count and table not in _GONE:
                print(f"lost: {count - kept} of {count} in {table}")
    print(f"{len(plan)} states with {rows.total()} rows")


if __name__ == "__main__":
    main()
