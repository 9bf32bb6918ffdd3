"""Bring a fresh database to an earlier state, put a row into every table of it, and migrate to the present one.

Called with the share of the way at which the earlier state lies; prints the tables whose rows were lost.
"""

import datetime
import sys
from typing import Any

import django

django.setup()

from django.db import connection, models  # noqa: E402 - needs the settings
from django.db.migrations.executor import MigrationExecutor  # noqa: E402

OURS = "rumbrel.web."
_VALUES: tuple[tuple[type, Any], ...] = (
    (models.GenericIPAddressField, "192.0.2.7"), (models.BooleanField, False), (models.JSONField, []), (models.DateTimeField, datetime.datetime(2024, 5, 1, tzinfo=datetime.UTC)),
    (models.FloatField, 1.5), (models.IntegerField, 1), (models.BinaryField, b"x"), (models.TextField, "a"), (models.CharField, "a"),
)  # fmt: skip


def row_of(model: Any, made: dict[str, Any]) -> Any:
    """A row in a table, with rows in those that it leads to."""
    if model._meta.label in made:
        return made[model._meta.label]
    values = {}
    for field in model._meta.concrete_fields:
        if isinstance(field, models.ForeignKey):
            if field.null and field.related_model is not model or not field.null:
                values[field.name] = row_of(field.related_model, made)
        elif (
            not isinstance(field, (models.AutoField, models.GeneratedField))
            and not field.has_default()
            and not field.null
        ):
            values[field.name] = next(value for kind, value in _VALUES if isinstance(field, kind))
    made[model._meta.label] = model.objects.create(**values)
    return made[model._meta.label]


def main(share: float) -> None:
    executor = MigrationExecutor(connection)
    plan = executor.migration_plan(executor.loader.graph.leaf_nodes())
    first = round(len(plan) * share)
    earlier: dict[str, tuple[str, str]] = {}
    for migration, _ in plan[:first]:
        earlier[migration.app_label] = (migration.app_label, migration.name)
    executor.migrate(list(earlier.values()))
    state = MigrationExecutor(connection).loader.project_state(list(earlier.values())).apps
    made: dict[str, Any] = {}
    for model in state.get_models():
        if model._meta.app_label not in ("contenttypes", "auth", "axes") and model._meta.managed:
            row_of(model, made)
    executor = MigrationExecutor(connection)
    executor.migrate(executor.loader.graph.leaf_nodes())
    tables = {label: row._meta.db_table for label, row in made.items()}
    there = set(connection.introspection.table_names())
    with connection.cursor() as cursor:
        for label, table in tables.items():
            kept = table in there and cursor.execute(f'SELECT count(*) FROM "{table}"').fetchone()[0]
            if not kept:
                print(f"lost: {label}")
    print(f"from {first} of {len(plan)} with {len(made)} rows")


if __name__ == "__main__":
    main(float(sys.argv[1]))
