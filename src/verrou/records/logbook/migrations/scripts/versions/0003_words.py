"""Bring the words of version 0.1 forward."""

import sqlalchemy as sql
from alembic import op

from verrou.records.logbook.former import COLUMNS, WORDS

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    for table, columns in COLUMNS.items():
        with op.batch_alter_table(table) as changed:
            for former, name in columns.items():
                changed.alter_column(former, new_column_name=name)
    for (table, column), words in WORDS.items():
        place = sql.table(table, sql.column(column))
        for former, word in words.items():
            op.execute(place.update().where(place.c[column] == former).values({column: word}))
