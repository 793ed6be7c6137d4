"""A snapshot as plain data (for survey files and ``--format json``), and back."""

# Imports within functions: most commands read no survey: for a quick start.

from collections.abc import Callable, Collection
from datetime import date, datetime
from functools import cache
from typing import TYPE_CHECKING, Any, TypedDict, TypeVar, get_args, get_origin

from attrs import AttrsInstance, asdict, fields

from verrou.core.errors import BadInput
from verrou.core.model import Account, Group, MachineFacts, Reading, Snapshot, Source, Status
from verrou.core.model.access import KnownRole, as_known_role, known_role, routes_now, routes_unknown
from verrou.core.model.ageing import must_change, password_ages, usable_until
from verrou.core.model.routes import EntryPoint, Route
from verrou.core.model.states import AccountState, states_of
from verrou.core.rules import CATALOGUE, Rule, reading_of, value_now
from verrou.core.values import MOST_SEEN, Unacceptable, ValueData

if TYPE_CHECKING:
    from cattrs import Converter

FORMAT = "verrou survey 3"
FORMER = ("verrou survey 1", "verrou survey 2")
"""Fields in which a name could be mistaken for a pattern."""
T = TypeVar("T")


def plain_value(value: object) -> object:
    """Return a value as plain data: days and times in ISO 8601."""
    if isinstance(value, datetime):
        return "until-unlocked" if value == datetime.max else value.isoformat()
    if isinstance(value, date):
        return value.isoformat()
    return value


class DerivedData(TypedDict):
    """Facts derived for an account."""

    role: KnownRole
    states: list[AccountState]
    routes: list[Route]
    unknown_routes: list[Route]
    must_change: bool
    password_ages: bool
    usable_until: date | None


class ReadingData(TypedDict):
    """State of a rule on a machine; ``words`` give the value as a table does."""

    value: ValueData | None
    pending: ValueData | None
    words: str
    status: Status
    enforced: bool
    source: Source | None
    overrides: list[Source]
    reason: str
    remedy: str


def plain(item: AttrsInstance, *names: str, without: Collection[str] = ()) -> Any:
    """Return facts as plain data, all of them or those named: days and times in ISO 8601."""
    own = set(names or (field.name for field in fields(type(item)))) - set(without)
    top = asdict(item, recurse=True, value_serializer=lambda _, __, value: plain_value(value))
    return {name: value for name, value in top.items() if name in own}


def account_data(account: Account, snapshot: Snapshot) -> dict[str, Any]:
    """Return one account as plain data, with its derived role and states."""
    today = snapshot.machine.now.date()
    until = usable_until(account, snapshot)
    return {
        **plain(account),
        "role": known_role(account, snapshot),
        "states": list(states_of(account, snapshot)),
        "routes": list(routes_now(account, snapshot)),
        "unknown_routes": list(routes_unknown(account, snapshot)),
        "must_change": must_change(account, snapshot, today),
        "password_ages": password_ages(account, snapshot),
        "usable_until": until.isoformat() if until else None,
    }


def reading_data(rule: Rule, reading: Reading) -> dict[str, Any]:
    """Return one reading as plain data."""
    return {
        "value": None if reading.value is None else rule.kind.dump(reading.value),
        "pending": None if reading.pending is None else rule.kind.dump(reading.pending),
        "words": value_now(rule, reading),
        "status": reading.status,
        "enforced": reading.enforced,
        "source": None if reading.source is None else plain(reading.source),
        "overrides": [plain(source) for source in reading.overrides],
        "reason": reading.reason,
        "remedy": reading.remedy,
    }


def survey_data(snapshot: Snapshot) -> dict[str, Any]:
    """Return the whole snapshot, every rule of the catalogue included. No secret and no hash is in it."""
    return {
        "format": FORMAT,
        "machine": plain(snapshot.machine),
        "accounts": [account_data(account, snapshot) for account in snapshot.accounts],
        "groups": [asdict(group) for group in snapshot.groups],
        "readings": {rule.id: reading_data(rule, reading_of(rule, snapshot)) for rule in CATALOGUE.values()},
        "warnings": list(snapshot.warnings),
        "entry_points": [asdict(entry_point) for entry_point in snapshot.entry_points],
    }


def snapshot_from(data: object) -> Snapshot:
    """Return the snapshot that :func:`survey_data` was made from.

    Raises: BadInput: the data is no survey; the message names the first wrong place."""
    if not isinstance(data, dict) or data.get("format") != FORMAT:
        if isinstance(data, dict) and data.get("format") in FORMER:
            raise BadInput("this survey was saved by Verrou 0.1, and only that version reads it. Save it again.")
        raise BadInput(f'not a survey: it does not say "format": "{FORMAT}"')
    # A survey is read far less often than one is made, and made sooner without this.
    from cattrs import transform_error
    from cattrs.errors import ClassValidationError, IterableValidationError

    convert = _converter()
    try:
        machine = convert.structure(data["machine"], MachineFacts)
        accounts = convert.structure(data["accounts"], tuple[Account, ...])
        groups = convert.structure(data["groups"], tuple[Group, ...])
        warnings = convert.structure(data["warnings"], tuple[str, ...])
        entry_points = convert.structure(data["entry_points"], tuple[EntryPoint, ...])
        found = {rule_id: reading_from(rule_id, raw) for rule_id, raw in data["readings"].items()}
        readings = {rule_id: reading for rule_id, reading in found.items() if reading is not None}
    except (ClassValidationError, IterableValidationError) as error:
        raise BadInput(f"this survey is damaged: {transform_error(error)[0]}") from None
    except (KeyError, TypeError, AttributeError, ValueError) as error:
        text = error if isinstance(error, Unacceptable) else f"{type(error).__name__} {error}"
        raise BadInput(f"this survey is damaged: {text}") from None
    return Snapshot(machine, accounts, groups, readings, warnings, entry_points)


def structured(raw: object, kind: type[T]) -> T:
    """Return plain data as facts. Raises what :mod:`cattrs` does, without details."""
    return _converter(detailed=False).structure(raw, kind)


def reader_of(kind: Any) -> Callable[[Any], Any]:
    """Return the function that builds facts of a class from plain data, found once. It raises what :mod:`cattrs`
    does."""
    convert = _converter(detailed=False)
    hook: Callable[[Any, Any], Any] = convert.get_structure_hook(kind)
    return lambda raw: hook(raw, kind)


def reading_from(rule_id: str, raw: Any) -> Reading | None:
    """Return a reading from plain data; None where the rule is unknown here or is derived from accounts."""
    rule = CATALOGUE.get(rule_id)
    return None if rule is None or rule.derived is not None else _reading(_converter(), rule, raw)


def _reading(convert: "Converter", rule: Rule, raw: dict[str, Any]) -> Reading:
    value, pending = (None if raw[key] is None else rule.kind.load(raw[key]) for key in ("value", "pending"))
    return Reading(
        value,
        convert.structure(raw["status"], Status),
        convert.structure(raw["source"], Source | None),  # type: ignore[arg-type]
        convert.structure(raw["overrides"], tuple[Source, ...]),
        reason=convert.structure(raw["reason"], str),
        remedy=convert.structure(raw["remedy"], str),
        enforced=convert.structure(raw["enforced"], bool),
        pending=pending,
    )


def _moment(raw: Any) -> datetime:
    if raw == "until-unlocked":
        return datetime.max
    moment = datetime.fromisoformat(raw)
    if moment.tzinfo is not None:
        raise ValueError(f"{raw}: a machine's own time has no time zone")
    return moment


def _number(raw: Any) -> int:
    if isinstance(raw, bool) or not isinstance(raw, int) or abs(raw) > MOST_SEEN:
        raise ValueError(f"{raw!r:.40}: not a number that a machine stores")
    return raw


def _is_tuple(kind: Any) -> bool:
    """Return whether it is one of any length."""
    return get_origin(kind) is tuple and get_args(kind)[-1] is ...


@cache
def _converter(detailed: bool = True) -> "Converter":
    """Return the converter; ``detailed`` errors say what is wrong and take longer."""
    from cattrs import Converter

    converter = Converter(detailed_validation=detailed)
    converter.register_structure_hook(datetime, lambda raw, _: _moment(raw))
    converter.register_structure_hook_func(lambda kind: kind is int, lambda raw, _: _number(raw))  # and not of bool
    converter.register_structure_hook_func(lambda kind: kind == KnownRole, lambda raw, _: as_known_role(raw))
    converter.register_structure_hook(date, lambda raw, _: date.fromisoformat(raw))
    of_tuples: Any = converter.get_structure_hook(tuple[str, ...])
    # Most of them have nothing in them.
    converter.register_structure_hook_func(_is_tuple, lambda raw, kind: () if raw == [] else of_tuples(raw, kind))
    return converter
