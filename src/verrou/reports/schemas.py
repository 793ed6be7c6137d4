"""JSON Schemas of each output and of the baseline file, made from the declarations of their contents."""

import types
from collections.abc import Callable, Collection, Mapping, Sequence
from datetime import date, datetime
from enum import Enum
from typing import Any, Literal, Union, get_args, get_origin, get_type_hints, is_typeddict

from attrs import NOTHING, fields, has

from verrou import __version__
from verrou.core.baselines.baseline import Waiver, WantedAccount, WantedGroup
from verrou.core.history.entries import JournalEntry, RunState
from verrou.core.history.records import FORMAT as RECORD_FORMAT
from verrou.core.history.records import Counts, RunFacts, RunRecord
from verrou.core.history.trend import MachineHistory, Moment
from verrou.core.judging.rounds import LeftOut, Row
from verrou.core.model import Account, Group, MachineFacts
from verrou.core.model.routes import EntryPoint
from verrou.core.model.verdicts import Tally, TrialResult
from verrou.core.rules import CATALOGUE, PRESET, PRESETS, Rule
from verrou.core.surveys.data import FORMAT, DerivedData, ReadingData
from verrou.core.values import NAMES, TEXT, JsonSchema, either, exactly
from verrou.reports import logbook, records, rounds
from verrou.reports.access import AccessData, ScreensData, WhyData
from verrou.reports.baselines import BaselineData, BaselineLine
from verrou.reports.catalogue import ExplanationData, PresetData, RuleData
from verrou.reports.comparisons import ComparisonData
from verrou.reports.findings import FindingData
from verrou.reports.groups import GivesData
from verrou.reports.sign_off import SignOffData

DIALECT = "https://json-schema.org/draft/2020-12/schema"
MOMENT: JsonSchema = {"type": "string", "pattern": r"^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?$"}
"""The machine's own time, which has no zone."""
PLAIN: Mapping[object, JsonSchema] = {
    bool: {"type": "boolean"},
    int: {"type": "integer"},
    float: {"type": "number"},
    str: TEXT,
    date: {"type": "string", "format": "date"},
    datetime: either(MOMENT, {"const": "until-unlocked"}),
    type(None): {"type": "null"},
    Any: {},
    object: {},
}


def schema_of(kind: Any) -> JsonSchema:
    """Return the JSON Schema of a type: plain ones, enumerations, lists, mappings, typed dictionaries and attrs
    classes."""
    kind = getattr(kind, "__supertype__", kind)
    if kind in PLAIN:
        return PLAIN[kind]
    origin, arguments = get_origin(kind), get_args(kind)
    if origin in (Union, types.UnionType):
        return either(*map(schema_of, arguments))
    if origin is Literal:
        return {"enum": list(arguments)}
    if origin is tuple and Ellipsis not in arguments:
        return {"type": "array", "prefixItems": [schema_of(each) for each in arguments], "items": False}
    if origin in (list, tuple, Sequence):
        return {"type": "array", "items": schema_of(arguments[0])}
    if origin in (dict, Mapping):
        return {"type": "object", "additionalProperties": schema_of(arguments[1])}
    if isinstance(kind, type) and issubclass(kind, Enum):
        return {"enum": [member.value for member in kind]}
    hints = get_type_hints(kind)
    if is_typeddict(kind):
        required = kind.__required_keys__
    elif has(kind):
        required = {attribute.name for attribute in fields(kind)}
        hints = {name: hint for name, hint in hints.items() if name in required}
    else:
        raise TypeError(f"no JSON Schema is known for {kind}")
    return {
        "type": "object",
        "properties": {name: schema_of(hint) for name, hint in hints.items()},
        "required": [name for name in hints if name in required],
        "additionalProperties": False,
    }


def _joined(*kinds: Any, without: Collection[str] = (), **more: Any) -> JsonSchema:
    """Return the schema of an object with the keys of several types, and ``more`` of other types."""
    properties = {name: schema for kind in kinds for name, schema in schema_of(kind)["properties"].items()}
    kept = {name: schema for name, schema in properties.items() if name not in without}
    return exactly(**kept, **{name: schema_of(kind) for name, kind in more.items()})


def _account() -> JsonSchema:
    return _joined(Account, DerivedData)


def _group() -> JsonSchema:
    return _joined(Group, GivesData)


def _readings() -> JsonSchema:
    def reading(rule: Rule) -> JsonSchema:
        value = either(rule.kind.schema(), {"type": "null"})
        return exactly(**{**schema_of(ReadingData)["properties"], "value": value, "pending": value})

    properties = {rule.id: reading(rule) for rule in CATALOGUE.values()}
    return {"type": "object", "properties": properties, "additionalProperties": False}


def _survey() -> JsonSchema:
    return exactly(
        format={"const": FORMAT},
        machine=schema_of(MachineFacts),
        accounts={"type": "array", "items": _account()},
        groups={"type": "array", "items": schema_of(Group)},
        readings=_readings(),
        warnings=NAMES,
        entry_points={"type": "array", "items": schema_of(EntryPoint)},
    )


def _audit(**more: Any) -> JsonSchema:
    score = _joined(Tally, not_met=int, assessed=int)
    return exactly(
        **_joined(machine=str, baseline=str, findings=list[FindingData], **more)["properties"],
        score=score,
    )


def _record() -> JsonSchema:
    return _joined(RunRecord, Tally, without=logbook.NOT_SHOWN, number=int)


def _listed_run() -> JsonSchema:
    return _joined(RunFacts, Tally, Counts, without=logbook.NOT_SHOWN, number=int)


def _exported() -> JsonSchema:
    """Return the schema of a line."""
    return exactly(format={"const": RECORD_FORMAT}, **schema_of(RunRecord)["properties"])


def _trend() -> JsonSchema:
    return _joined(on=date, ending_by=date, families=list[str], machines=list[MachineHistory], together=list[Moment])


def _entry() -> JsonSchema:
    return _joined(JournalEntry, without=records.NOT_SHOWN, state=RunState)


def _round() -> JsonSchema:
    row = _joined(Row, without=rounds.NOT_SHOWN, assessed=int, rules=dict[str, list[str]])
    return exactly(
        machines={"type": "array", "items": row},
        left_out=schema_of(list[LeftOut]),
        older=schema_of(int),
    )


def _sign_off() -> JsonSchema:
    entries: JsonSchema = {"type": "array", "items": _entry()}
    return exactly(
        **{**schema_of(SignOffData)["properties"], "entries": entries, "tests": schema_of(list[TrialResult])}
    )


def _list_of(item: Callable[[], JsonSchema]) -> Callable[[], JsonSchema]:
    return lambda: {"type": "array", "items": item()}


def _of(kind: Any) -> Callable[[], JsonSchema]:
    return lambda: schema_of(kind)


def _written(rule: Rule) -> JsonSchema:
    """Return the schema of a rule's requirement in a baseline file."""
    plain = rule.kind.written_schema()
    forms = [{"value": plain}, {"exactly": plain}, {"any_of": {"type": "array", "items": plain, "minItems": 1}}]
    forms += [{"from": plain, "to": plain}] if rule.kind.has_scale else []
    forms += [{"only": {**NAMES, "minItems": 1}}] if rule.kind.takes_names else []

    def form(properties: JsonSchema) -> JsonSchema:
        schema = exactly(**properties)
        return {**schema, "properties": {**schema["properties"], "reason": TEXT}}

    return {"title": rule.title, "description": rule.protects, **either(plain, *map(form, forms))}


def _section(kind: Any, *given: str) -> JsonSchema:
    """Return the schema of a table of a baseline file; ``given`` is decided by its place, not by its keys."""
    hints = {name: hint for name, hint in get_type_hints(kind).items() if name not in (*given, "mark")}
    required = [a.name for a in fields(kind) if a.name in hints and a.default is not None and not _has_default(a)]
    return {
        "type": "object",
        "properties": {name: schema_of(hint) for name, hint in hints.items()},
        "required": required,
        "additionalProperties": False,
    }


def _has_default(attribute: Any) -> bool:
    return attribute.default is not NOTHING


def baseline_file() -> JsonSchema:
    """Return the schema of a baseline file as parsed TOML; a day is a text such as 2027-03-31."""
    families: dict[str, JsonSchema] = {}
    for rule in CATALOGUE.values():
        family = families.setdefault(rule.family, {"type": "object", "properties": {}, "additionalProperties": False})
        *outer, last = rule.key.split(".")
        for key in outer:
            empty = {"type": "object", "properties": {}, "additionalProperties": False}
            family = family["properties"].setdefault(key, empty)
        family["properties"][last] = _written(rule)
    for name, presets in PRESETS.items():
        families[name]["properties"][PRESET] = {"enum": list(presets)}
    head = {"type": "object", "properties": {"title": TEXT, "builds_on": NAMES}, "additionalProperties": False}
    tables = {
        "baseline": head,
        "accounts": {"type": "object", "additionalProperties": _section(WantedAccount, "name")},
        "groups": {"type": "object", "additionalProperties": _section(WantedGroup, "name")},
        "waiver": {"type": "array", "items": _section(Waiver)},
    }
    return {"type": "object", "properties": {**tables, **families}, "additionalProperties": False}


OUTPUTS: Mapping[str, Callable[[], JsonSchema]] = {
    "survey": _survey,
    "access": _of(list[AccessData]),
    "why": _of(WhyData),
    "signin": _of(ScreensData),
    "audit": _audit,
    "verify": lambda: _audit(tests=list[TrialResult]),
    "account list": _list_of(_account),
    "account show": _account,
    "group list": _list_of(_group),
    "group show": _group,
    "rule list": _of(list[RuleData]),
    "rule presets": _of(list[PresetData]),
    "rule show": _readings,
    "rule explain": _of(dict[str, list[ExplanationData]]),
    "baseline list": _of(list[BaselineLine]),
    "baseline show": _of(BaselineData),
    "baseline file": baseline_file,
    "compare": _of(ComparisonData),
    "baseline compare": _of(ComparisonData),
    "round": _round,
    "report": _sign_off,
    "logbook list": _list_of(_listed_run),
    "logbook show": _record,
    "logbook export": _exported,
    "trend": _trend,
    "journal list": _list_of(_entry),
    "journal show": _entry,
}
"""Output of each command with ``--format json``; a line of an export; and the baseline file."""
NOT_BY_FORMAT = {"baseline file": "A baseline file", "logbook export": "A line of verrou logbook export"}


def schema(name: str) -> JsonSchema:
    """Return the JSON Schema of an output, by the name of its command."""
    title = NOT_BY_FORMAT.get(name, f"verrou {name} --format json")
    return {"$schema": DIALECT, "title": f"{title} (Verrou {__version__})", **OUTPUTS[name]()}
