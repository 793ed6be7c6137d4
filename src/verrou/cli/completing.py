"""Completion: what a shell offers at a place of the command line. On any error it offers nothing."""

# Imports within functions: a shell waits for each word.

from collections.abc import Callable, Iterable
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from click.shell_completion import CompletionItem

    from verrou.core.model import Snapshot
    from verrou.machines.protocol import Machine

Complete = Callable[[click.Context, click.Parameter, str], "list[CompletionItem]"]
Words = Callable[[click.Context, str], Iterable[str]]


def _offering(words: Words) -> Complete:
    """Return the words that begin with what is typed."""

    @wraps(words)
    def complete(context: click.Context, _: click.Parameter, typed: str) -> "list[CompletionItem]":
        from click.shell_completion import CompletionItem

        try:
            return [CompletionItem(word) for word in words(context, typed) if word.startswith(typed)]
        except Exception:  # during typing there is no place for an error message
            return []

    return complete


def _machine(context: click.Context) -> "Snapshot":
    machine: Machine = context.params["machine"]  # none, where the one that was named is none
    from verrou.machines.protocol import Asking, Lacks

    if not isinstance(askable := machine.askable, Lacks):
        askable.asking = Asking.FILES_ONLY  # the user is typing, and waits
    return machine.observe()


@_offering
def accounts(context: click.Context, typed: str) -> Iterable[str]:
    """Return the accounts of the machine given."""
    return [name for name in _machine(context).by_name if name.isprintable()]


@_offering
def groups(context: click.Context, typed: str) -> Iterable[str]:
    """Return the groups of the machine given."""
    return [group.name for group in _machine(context).groups if group.name.isprintable()]


@_offering
def rules(context: click.Context, typed: str) -> Iterable[str]:
    """Return rules and their families."""
    from verrou.core.rules import CATALOGUE

    return [*dict.fromkeys(rule.family for rule in CATALOGUE.values()), *CATALOGUE]


@_offering
def families(context: click.Context, typed: str) -> Iterable[str]:
    """Return families of rules, and the parts of a baseline besides them."""
    from verrou.core.rules import CATALOGUE

    return [*dict.fromkeys(rule.family for rule in CATALOGUE.values()), "accounts", "groups"]


@_offering
def assignments(context: click.Context, typed: str) -> Iterable[str]:
    """Return RULE=, and after it the words that the rule accepts."""
    from verrou.core.rules import CATALOGUE

    rule = CATALOGUE.get(typed.partition("=")[0])
    if rule is None:
        return [f"{rule_id}=" for rule_id, each in CATALOGUE.items() if each.derived is None]
    before, comma, last = typed.removeprefix(f"{rule.id}=").rpartition(",")
    row = last.partition("=")[0] if "=" in last else ""
    words = [f"{row}={word}" for word in _words_of(_cell(rule.kind.written_schema(), row))] if row else ()
    return [f"{rule.id}={before}{comma}{word}" for word in words or _words_of(rule.kind.written_schema())]


@_offering
def baselines(context: click.Context, typed: str) -> Iterable[str]:
    """Return included baselines, and files."""
    from verrou.cli.baseline_files import INCLUDED_BASELINES

    return [*INCLUDED_BASELINES, *_files(typed, ".toml")]


@_offering
def machines(context: click.Context, typed: str) -> Iterable[str]:
    """Return bench machines, surveys and folders."""
    from verrou.machines.registry import suffixes

    return ["this", *_files(typed, *suffixes())]


@_offering
def sides(context: click.Context, typed: str) -> Iterable[str]:
    """Return what can be compared."""
    from verrou.machines.registry import suffixes

    return ["now", "before", "this", *_files(typed, *suffixes())]


@_offering
def routes(context: click.Context, typed: str) -> Iterable[str]:
    """Return the routes, and what signed-in users do."""
    from verrou.core.model.acts import UserAct
    from verrou.core.model.reasons import ELEVATE
    from verrou.core.model.routes import Route

    return [*Route, ELEVATE, *UserAct]


def _words_of(schema: object) -> Iterable[str]:
    """Return the words that a value may be, by its JSON Schema."""
    if isinstance(schema, list):
        return [word for each in schema for word in _words_of(each)]
    if not isinstance(schema, dict):
        return []
    if schema.get("type") == "boolean":
        return ["yes", "no"]
    rows = [f"{key}=" for key, each in schema.get("properties", {}).items() if "enum" in each]
    return [*map(str, schema.get("enum", [])), *_words_of(schema.get("anyOf")), *_words_of(schema.get("oneOf")), *rows]


def _cell(schema: object, row: str) -> object:
    """Return the schema of a row of a table, wherever it stands in the schema of a value."""
    if isinstance(schema, dict):
        return schema.get("properties", {}).get(row) or _cell(schema.get("anyOf"), row)
    return next(filter(None, (_cell(each, row) for each in schema)), None) if isinstance(schema, list) else None


def _files(typed: str, *suffixes: str) -> list[str]:
    """Return files with a suffix, and folders, in the folder being typed."""
    folder = typed.rpartition("/")[0] + "/" if "/" in typed else ""
    found = []
    for path in sorted(Path(folder or ".").iterdir()):
        if path.is_dir() and not path.name.startswith("."):
            found.append(f"{folder}{path.name}/")
        elif path.name.endswith(suffixes):
            found.append(f"{folder}{path.name}")
    return found
