"""One voice in all that people read: phrases that were given up are nowhere any more, and the terms are the trade's."""

import ast
import re
from collections.abc import Iterator
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
STAY = {r"does not age; require password\.max_age"}
"""Where a phrase is right: a word of the trade, or of another program."""


def shown(source: str) -> Iterator[tuple[int, str]]:
    """The texts of a module that people can meet: all strings of more than one word but docstrings, and the docstrings
    of commands, which are their help."""
    tree = ast.parse(source)
    silent: set[int] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef | ast.ClassDef | ast.Module):
            decorators = [ast.unparse(each) for each in getattr(node, "decorator_list", ())]
            is_command = any(re.search(r"\b(command|group)\(", each) for each in decorators)
            for each in [] if is_command else node.body:
                if isinstance(each, ast.Expr):
                    silent.add(id(each.value))
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and " " in node.value.strip():
            yield from [] if id(node) in silent else [(node.lineno, node.value)]


@pytest.mark.parametrize("phrase", list(RETIRED))
def test_a_phrase_that_was_given_up_is_nowhere(phrase: str) -> None:
    texts = [(f"{p.relative_to(TOP)}:{line}", text) for p in SOURCES for line, text in shown(p.read_text())]
    texts += [(f"{p.relative_to(TOP)}", p.read_text()) for p in (*PAPERS, *TABLES, TOP / "docs/verrou.1")]
    found = [
        (place, match[0])
        for place, text in texts
        for match in re.finditer(rf".{{0,30}}(?:{phrase}).{{0,30}}", text)
        if not any(re.search(each, match[0]) for each in STAY)
    ]
    assert not found, f"say {RETIRED[phrase]!r}: {found}"


def test_a_name_that_was_given_up_is_nowhere() -> None:
    former = {TOP / "src/verrou/records/logbook/former.py"}
    texts = [(p, text) for p in set(SOURCES) - former for _, text in texts_of(p.read_text())]
    pages = [*(TOP / "src/verrou/reports/pages").iterdir(), *(TOP / "scripts").iterdir()]
    texts += [(p, p.read_text()) for p in (*PAPERS, *TABLES, *pages, TOP / "docs/verrou.1") if p.is_file()]
    assert [(p.name, match[0]) for p, text in texts for match in RETIRED_NAMES.finditer(text)] == []


def texts_of(source: str) -> Iterator[tuple[int, str]]:
    """All strings of a module."""
    for node in ast.walk(ast.parse(source)):
        if isinstance(node, ast.Constant) and isinstance(node.value, str):
            yield node.lineno, node.value
