"""Files with one setting a line: ``key = value`` (pwquality.conf, faillock.conf) or ``KEY value`` (login.defs)."""

import re
from collections.abc import Iterator

from attrs import frozen

_SETTING = re.compile(r"\s*([A-Za-z_][A-Za-z0-9_]*)(\s*=\s*|\s+)?(.*?)\s*$", re.DOTALL)


@frozen(repr=False)
class SettingLine:
    """One line that sets a key: ``value`` is empty for a bare flag. ``line`` counts from 1."""

    file: str
    line: int
    key: str
    value: str


def settings(file: str, lines: list[str], comments_anywhere: bool = True) -> Iterator[SettingLine]:
    """Yield the settings of the lines, in order. With ``comments_anywhere`` a ``#`` ends a line."""
    for number, line in enumerate(lines, start=1):
        text = line.split("#", 1)[0] if comments_anywhere else line
        if not text.strip() or text.lstrip().startswith("#"):
            continue
        match = _SETTING.match(text)
        yield SettingLine(file, number, match[1], match[3]) if match else SettingLine(file, number, text.strip(), "")


def with_setting(text: str, key: str, value: str | None, *, separator: str = " = ", line: int | None = None) -> str:
    """Return ``text`` with ``key`` set to ``value`` on ``line`` (1 for the first), or on a new last line for None.

    An empty value writes a bare flag; None removes the line. All other bytes stay."""
    setting = key if value == "" else f"{key}{separator}{value}"
    lines = text.split("\n")
    if line is not None:
        if value is None:
            del lines[line - 1]
        else:
            comment = re.search(r"\s*#.*$", lines[line - 1])
            lines[line - 1] = setting + (comment[0] if comment else "")
        return "\n".join(lines)
    if value is None:
        return text
    return text + ("" if not text or text.endswith("\n") else "\n") + setting + "\n"
