"""verrou rule: the catalogue, its explanations, and single rules of a machine."""

import click

from verrou.cli import completing
from verrou.cli.change import single
from verrou.cli.change_options import ChangeSettings, change_options
from verrou.cli.command_group import CommandGroup
from verrou.cli.observing import looked_at
from verrou.cli.options import format_option, machine_option
from verrou.cli.output import print_facts
from verrou.core.baselines.desired import AtLeast, in_words_of
from verrou.core.errors import BadInput, MachineRefused
from verrou.core.model import Snapshot
from verrou.core.planning.change_plan import rule_steps
from verrou.core.planning.choices import preset_names, values_of
from verrou.core.rules import CATALOGUE, Rule, reading_of
from verrou.core.steps.step import SetRules
from verrou.core.surveys.data import reading_data
from verrou.core.values import Unacceptable, Value, nearest, show_raw
from verrou.machines.protocol import Machine
from verrou.reports.catalogue import (
    FAMILY_WORDS,
    explanation,
    family_table,
    presets_data,
    presets_table,
    rule_list,
    rule_list_table,
)
from verrou.reports.surveys import rules_table
from verrou.reports.tables import Table, columns_of, complain, console, print_table
from verrou.reports.terminal import Line


def _rules(ids: tuple[str, ...], *, settable: bool = False) -> list[Rule]:
    """Return the rules of these ids or families; all without any.

    With ``settable`` only rules that can be set are suggested."""
    chosen: list[Rule] = []
    for name in ids:
        fitting = [rule for rule in CATALOGUE.values() if name in (rule.id, rule.family)]
        if not fitting:
            families = [] if settable else list(dict.fromkeys(rule.family for rule in CATALOGUE.values()))
            close = nearest(name, [*CATALOGUE, *families])
            meant = CATALOGUE.get(close or "")
            if settable and meant is not None and meant.derived is not None:
                hint = f"{meant.id} depends on the accounts. To change it: {meant.derived.by}"
            else:
                hint = f"Did you mean {close}?" if close else "To list them: verrou rule list"
            raise BadInput(f"no rule or family {name!r}. {hint}")
        chosen += fitting
    return chosen or list(CATALOGUE.values())


@click.group(cls=CommandGroup)
def rule() -> None:
    """List, show, explain and set rules."""


@rule.command("list")
@format_option
def list_rules(style: str) -> None:
    """List all rules."""
    rules = rule_list()
    table = rule_list_table(rules)

    def text() -> None:
        out = console()
        for family, about in FAMILY_WORDS.items():
            out.print(f"{family}: {about}", style="bold")
            print_table(out, family_table([each for each in rules if each["rule"].startswith(f"{family}.")]))
            out.print()

    print_facts(style, table, rules, text)


@rule.command("presets")
@format_option
def presets(style: str) -> None:
    """List presets for elevation, strictest first."""
    data = presets_data()
    table = presets_table(data)
    print_facts(style, table, data, lambda: print_table(console(), table))


@rule.command("explain")
@click.argument("ids", metavar="RULE", nargs=-1, required=True, shell_complete=completing.rules)
@format_option
def explain(ids: tuple[str, ...], style: str) -> None:
    """Explain what a rule protects against, what it costs users and where it is set."""
    rules = _rules(ids)
    rows = tuple({"rule": r.id, "about": about, "text": text} for r in rules for about, text in explanation(r))
    table = Table("explanations", columns_of(("rule", "rule"), ("about", "about"), ("text", "text")), rows)

    def text() -> None:
        out = console()
        for position, each in enumerate(rules):
            if position:
                out.print()
            out.print(each.id, style="bold")
            parts = [([Line(about, "dim")], [Line(words)]) for about, words in explanation(each)]
            out.table(("", ""), parts, (True, False))

    data = {r.id: [{"about": about, "text": words} for about, words in explanation(r)] for r in rules}
    print_facts(style, table, data, text)


@rule.command("show")
@click.argument("ids", metavar="[RULE]", nargs=-1, shell_complete=completing.rules)
@machine_option
@format_option
def show(ids: tuple[str, ...], machine: Machine, style: str) -> None:
    """Show the value of rules on a machine, where it is set and what it overrides."""
    rules = _rules(ids)
    snapshot = looked_at(machine)
    table = rules_table(snapshot, rules)
    data = {each.id: reading_data(each, reading_of(each, snapshot)) for each in rules} if style == "json" else None
    print_facts(style, table, data, lambda: print_table(console(), table))


@rule.command("set")
@click.argument("assignments", metavar="RULE=VALUE", nargs=-1, shell_complete=completing.assignments)
@click.option("--preset", metavar="NAME", help="Preset for elevation; to list them: verrou rule presets")
@change_options()
def set_rule(assignments: tuple[str, ...], preset: str | None, machine: Machine, settings: ChangeSettings) -> None:
    """Set rules; rules that depend on each other are set together."""
    if preset is None and not assignments:
        raise BadInput("nothing to set. Give RULE=VALUE, such as lockout.after=5, or --preset NAME.")
    if preset is not None and preset not in preset_names():
        close = nearest(preset, preset_names())
        hint = f". Did you mean {close}?" if close else ""
        raise BadInput(f"--preset: invalid value {show_raw(preset)}; expected one of {', '.join(preset_names())}{hint}")
    required: dict[str, Value] = {}
    for assignment in assignments:
        name, equals, raw = assignment.partition("=")
        if not equals:
            raise BadInput(f"invalid value {assignment!r}; expected RULE=VALUE, such as lockout.after=5")
        if name not in CATALOGUE and any(name == rule.family for rule in CATALOGUE.values()):
            raise BadInput(f"{name} is a family. Name one rule of it; to list them: verrou rule list")
        found = _rules((name,), settable=True)[0]
        if found.derived is not None:
            raise BadInput(f"{name} is not a setting; it depends on the accounts. To change it: {found.derived.by}")
        try:
            required[name] = found.kind.parse_text(raw)
        except Unacceptable as unacceptable:
            raise BadInput(f"{name}: {unacceptable}") from None

    def steps(snapshot: Snapshot) -> list[SetRules]:
        chosen, left_out = values_of(snapshot, preset) if preset is not None else ({}, [])
        for message in left_out:
            complain(f"skipped: {message}")
        for rule_id in required:
            meant = in_words_of(AtLeast(required[rule_id]), CATALOGUE[rule_id], snapshot.own_spelling)
            required[rule_id] = meant.target(CATALOGUE[rule_id], None)
        for rule_id, value in required.items():
            accepted_values = snapshot.accepted_values.get(rule_id)
            if accepted_values is not None and (
                refused := CATALOGUE[rule_id].kind.why_not_accepted(value, accepted_values)
            ):
                raise (MachineRefused if accepted_values.why else BadInput)(f"{rule_id}: {refused}")
        return rule_steps(snapshot, {**chosen, **required})

    single(machine, steps, settings)
