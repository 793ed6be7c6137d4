"""A posture as plain data (for survey files and ``--format json``), and back."""

from datetime import date, datetime
from functools import cache
from typing import Any

from attrs import asdict
from cattrs import Converter, transform_error
from cattrs.errors import ClassValidationError, IterableValidationError

from verrou.core.errors import BadInput
from verrou.core.model import Account, Group, MachineFacts, Posture, Reading, Source
from verrou.core.model.access import role_of, states_of, ways_in
from verrou.core.model.ageing import closed_from, must_change, password_ages
from verrou.core.model.ways import Gate
from verrou.core.rules import CATALOGUE, Rule, reading_of

FORMAT = "verrou survey 1"


def _plain(value: object) -> object:
    if isinstance(value, datetime):
        return "until-unlocked" if value == datetime.max else value.isoformat(sep=" ")
    if isinstance(value, date):
        return value.isoformat()
    return value


def account_data(account: Account, posture: Posture) -> dict[str, Any]:
    """One account as plain data, with what is derived from it: role and states."""
    data = asdict(account, value_serializer=lambda _, __, value: _plain(value))
    ways = [str(way) for way in ways_in(account, posture)]
    today = posture.machine.now.date()
    closed = closed_from(account, posture)
    return {
        **data,
        "role": str(role_of(account, posture)),
        "states": states_of(account, posture),
        "ways_in": ways,
        "must_change": must_change(account, posture, today),
        "password_ages": password_ages(account, posture),
        "closed_from": closed.isoformat() if closed else None,
    }


def reading_data(rule: Rule, reading: Reading) -> dict[str, Any]:
    """One reading as plain data, its value as a baseline file would have it."""
    data = asdict(reading, value_serializer=lambda _, __, value: _plain(value), filter=lambda a, _: a.name != "value")
    data["value"] = None if reading.value is None else rule.kind.dump(reading.value)
    data["pending"] = None if reading.pending is None else rule.kind.dump(reading.pending)
    return data


def survey_data(posture: Posture) -> dict[str, Any]:
    """The whole posture, every rule of the catalogue included. No secret and no hash is in it."""
    return {
        "format": FORMAT,
        "machine": asdict(posture.machine, value_serializer=lambda _, __, value: _plain(value)),
        "accounts": [account_data(account, posture) for account in posture.accounts],
        "groups": [asdict(group) for group in posture.groups],
        "readings": {rule.id: reading_data(rule, reading_of(rule, posture)) for rule in CATALOGUE.values()},
        "troubles": list(posture.troubles),
        "gates": [asdict(gate) for gate in posture.gates],
    }


def posture_from(data: object) -> Posture:
    """The posture that :func:`survey_data` was made from.

    Raises:
        BadInput: the data is no survey; the message names the first place that is wrong.
    """
    if not isinstance(data, dict) or data.get("format") != FORMAT:
        raise BadInput(f'this is no survey: it does not say "format": "{FORMAT}"')
    convert = _converter()
    try:
        machine = convert.structure(data["machine"], MachineFacts)
        accounts = convert.structure([_renamed(raw) for raw in data["accounts"]], tuple[Account, ...])
        groups = convert.structure(data["groups"], tuple[Group, ...])
        troubles = convert.structure(data["troubles"], tuple[str, ...])
        gates = convert.structure(data.get("gates", []), tuple[Gate, ...])
        readings = {
            rule_id: _reading(convert, CATALOGUE[rule_id], raw)
            for rule_id, raw in data["readings"].items()
            if rule_id in CATALOGUE and CATALOGUE[rule_id].derived is None
        }
    except (ClassValidationError, IterableValidationError) as error:
        raise BadInput(f"this survey is damaged: {transform_error(error)[0]}") from None
    except (KeyError, TypeError, AttributeError, ValueError) as error:
        raise BadInput(f"this survey is damaged: {type(error).__name__} {error}") from None
    return Posture(machine, accounts, groups, readings, troubles, gates)


FORMER_FACTS = {"expires": "ends", "must_change": "password_due"}
"""What surveys that were saved earlier call a fact."""


def _renamed(raw: Any) -> Any:
    if not isinstance(raw, dict) or "ends" in raw:
        return raw
    return {FORMER_FACTS.get(key, key): value for key, value in raw.items()}


def _reading(convert: Converter, rule: Rule, raw: dict[str, Any]) -> Reading:
    values = {key: None if raw[key] is None else rule.kind.load(raw[key]) for key in ("value", "pending")}
    rest = {key: value for key, value in raw.items() if key not in values}
    return Reading(
        **{
            **values,
            **rest,
            "status": convert.structure(rest["status"], Reading.__annotations__["status"]),
            "source": convert.structure(rest["source"], Source | None),  # type: ignore[arg-type]
            "overruled": convert.structure(rest["overruled"], tuple[Source, ...]),
        }
    )


@cache
def _converter() -> Converter:
    converter = Converter()
    converter.register_structure_hook(
        datetime, lambda raw, _: datetime.max if raw == "until-unlocked" else datetime.fromisoformat(raw)
    )
    converter.register_structure_hook(date, lambda raw, _: date.fromisoformat(raw))
    return converter
