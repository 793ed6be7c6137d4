"""One voice in all that people read: phrases that were given up are nowhere any more, and the terms are the trade's."""

import ast
import re
from pathlib import Path

import pytest

TOP = Path(__file__).parent.parent
SOURCES = sorted((TOP / "src/verrou").rglob("*.py"))
PAPERS = [TOP / "README.md", *sorted((TOP / "docs/handbook").glob("*.md"))]
TABLES = sorted((TOP / "src/verrou").rglob("*.toml"))
RETIRED = {
    r"amounts? to": "role",
    r"gets? in\b": "can sign in",
    r"ways? in\b(?!\w)": "route",
    r"by which way": "by which route",
    r"held against": "audited against",
    r"(?<!as )falls? short": "is not met",
    r"asked for:": "required:",
    r"so already": "already in place",
    r"nothing acts on": "not enforced",
    r"\bmend\b": "repair",
    r"\b[Ww]hoever\b": "anyone",
    r"from afar": "remotely",
    r"for ever\b": "without limit",
    r"go(es)? back over": "undo",
    r"taken back": "undone",
    r"br(oke|oken|eaks?) off": "interrupted",
    r"turned away|kept (out|from)\b": "denied",
    r"slid back": "regressed",
    r"\bthrowaway\b": "temporary",
    r"\brehears": "dry run",
    r"(?<!-)\bforeseen?\b": "predicted",
    r"by hand\b": "manually, or a manual step",
    r"that ships?\b": "included",
    r"nobody knows": "it is not known",
    r"\bunasked\b": "automatic",
    r"does not age": "is exempt from password ageing",
    r"new password due": "password change due",
    r"wrong (tries|try)\b": "failed attempts",
    r"\b[Ss]omebody\b": "a user, another program",
    r"is started again": "takes effect after it restarts",
    r"\badministers\b": "has administrator rights",
    r"as shipped|shipped (one|default|group)": "by default, original, built-in",
    r"good by\b": "accepted at",
    r"\bworksheet\b": "plan",
    r"(?<!there )is no (ordinary|name|number|group|command|host|folder)\b": "is not a",
}
"""Phrases by what is said instead."""
RETIRED_NAMES = re.compile(
    r"(?<![\w-])(--(accept|prove|foresee|untried|ends|does-not-age|password-due|fresh-home|choice)"
    r"|(unending_passwords|temporary_until|ended_accounts|outside_identities|blank_ways|in_force|overruled)"
    r"|(lasting|untried)-administrator|shut-door|open-guest|moved-machine|prove-(each-time|at-first)|say-yes|ask-nothing"
    r"|not-tried|disproved|broke-off|password-due|still-acts|rule choices|account try)(?![\w-])"
)
"""Names of options, rules, guards, values and commands that have others now."""
STAYS = r"does not age; require password\.max_age"
"""Where a phrase is right: a word of the trade, or of another program."""


FORMER = TOP / "src/verrou/records/logbook/former.py"
"""Knows the words of older logbooks."""


@pytest.fixture(scope="module")
def strings() -> list[tuple[str, str, bool]]:
    """All strings of the modules, each with its place, and whether people can meet it: one of several words that is no
    docstring, or the docstring of a command, which is its help."""
    found = []
    for path in SOURCES:
        tree, silent = ast.parse(path.read_text()), set()
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef | ast.ClassDef | ast.Module):
                decorators = [ast.unparse(each) for each in getattr(node, "decorator_list", ())]
                if not any(re.search(r"\b(command|group)\(", each) for each in decorators):
                    silent |= {id(each.value) for each in node.body if isinstance(each, ast.Expr)}
        for node in ast.walk(tree):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                met = " " in node.value.strip() and id(node) not in silent
                found.append((f"{path.relative_to(TOP)}:{node.lineno}", node.value, met))
    return found


def test_a_phrase_that_was_given_up_is_nowhere(strings: list[tuple[str, str, bool]]) -> None:
    texts = [(place, text) for place, text, met in strings if met]
    texts += [(f"{path.relative_to(TOP)}", path.read_text()) for path in (*PAPERS, *TABLES, TOP / "docs/verrou.1")]
    found = [
        (place, around, f"say {instead!r}")
        for phrase, instead in RETIRED.items()
        for place, text in texts
        for match in re.finditer(phrase, text)
        if not re.search(STAYS, around := text[max(0, match.start() - 30) : match.end() + 30])
    ]
    assert not found


def test_a_name_that_was_given_up_is_nowhere(strings: list[tuple[str, str, bool]]) -> None:
    texts = [(place, text) for place, text, _ in strings if not place.startswith(str(FORMER.relative_to(TOP)))]
    pages = [*(TOP / "src/verrou/reports/pages").iterdir(), *(TOP / "scripts").iterdir()]
    texts += [
        (path.name, path.read_text()) for path in (*PAPERS, *TABLES, *pages, TOP / "docs/verrou.1") if path.is_file()
    ]
    assert [(place, match[0]) for place, text in texts for match in RETIRED_NAMES.finditer(text)] == []
