"""Days as people write them, where only one day can be meant."""

import re
from datetime import date

DAY_WORDS = "a day such as 2027-03-31 or 31 March 2027"
MONTHS = (
    *("january", "february", "march", "april", "may", "june"),
    *("july", "august", "september", "october", "november", "december"),
)
SHORTEST_MONTH = 3
"""Fewest letters of a month's name."""
_FORMS = (
    r"(?P<year>\d{4})-(?P<month>\d\d)-(?P<day>\d\d)",
    r"(?P<day>\d{1,2})\.? +(?P<month>[a-z]+)\.?,? +(?P<year>\d{4})",
    r"(?P<month>[a-z]+)\.? +(?P<day>\d{1,2}),? +(?P<year>\d{4})",
    r"(?P<year>\d{4}) +(?P<month>[a-z]+)\.? +(?P<day>\d{1,2})",
)


def day_of(text: str) -> date | None:
    """Return the day that a text names: ISO 8601, or with the month's English name.

    None where it is no day, or could be two (``03/04/2027``)."""
    for form in _FORMS:
        if (found := re.fullmatch(form, text.strip().lower())) is None:
            continue
        month = _month(found["month"])
        try:
            return date(int(found["year"]), month, int(found["day"]))
        except ValueError:
            return None
    return None


def _month(text: str) -> int:
    """Return the number of a month; 0 for none."""
    if text.isdigit():
        return int(text)
    named = [number for number, name in enumerate(MONTHS, start=1) if name.startswith(text)]
    return named[0] if len(named) == 1 and len(text) >= SHORTEST_MONTH else 0
