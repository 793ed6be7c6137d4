"""Words that version 0.1 wrote into logbooks and waiting records, and those used since."""

from collections.abc import Mapping
from typing import Any

FORMAT = "verrou record 1"
COLUMNS: Mapping[str, Mapping[str, str]] = {"trials": {"tried": "test", "proof": "result"}}
"""New names by table and former name."""
RULES = {
    "population.unending_passwords": "population.ageing_exempt",
    "population.temporary_until": "population.temporary_limit",
    "population.ended_accounts": "population.expired_accounts",
    "population.outside_identities": "population.linked_identities",
    "password.blank_ways": "password.blank_accepted",
}
WORDS: Mapping[tuple[str, str], Mapping[str, str]] = {
    ("findings", "verdict"): {
        "holds": "met",
        "short": "not-met",
        "absent": "not-applicable",
        "unreadable": "unknown",
    },
    ("findings", "severity"): {"grave": "high", "serious": "medium", "slight": "low"},
    ("findings", "subject"): RULES,
    ("readings", "rule"): RULES,
    ("trials", "rule"): RULES,
    ("trials", "result"): {"proved": "passed", "disproved": "failed", "not-tried": "not-run"},
}
"""New values by table and new name of the column, then by former value."""


def brought_forward(record: dict[str, Any]) -> dict[str, Any]:
    """Return a record of version 0.1, as it was read from its file, in today's words.

    Raises:
        KeyError, TypeError, AttributeError: it is not a record.
    """
    for table, columns in COLUMNS.items():
        record[table] = [{columns.get(key, key): value for key, value in row.items()} for row in record[table]]
    for (table, column), words in WORDS.items():
        for row in record[table]:
            row[column] = words.get(row[column], row[column])
    record["tests"] = record.pop("trials")
    return record
