"""What programs read: every output against its JSON Schema, and every baseline file against that of baselines."""

import json
import tomllib
from datetime import date
from pathlib import Path

import pytest
from jsonschema import Draft202012Validator as Validator

from conftest import Verrou
from verrou.cli import baseline_files
from verrou.cli.baseline_files import INCLUDED_BASELINES
from verrou.core.rules import CATALOGUE
from verrou.core.values import Span, iso_duration
from verrou.reports.schemas import NOT_BY_FORMAT, OUTPUTS, schema

MACHINES = ("station/hide-01.bench.json", "station/ringing-02.bench.json", "station/warden-03")
MORE = {
    "account show": ["daypass"],
    "group show": ["users"],
    "journal show": ["1"],
    "rule explain": ["lockout"],
    "why": ["daypass", "console"],
}
WITH_BASELINE = ("audit", "verify", "report")
OF_SEVERAL = {
    "compare": [*MACHINES[:2]],
    "baseline compare": ["office", "shared-desk"],
    "round": ["station/surveys", "--baselines", "station/which.toml"],
    "logbook list": ["--logbook", "station/verrou-logbook.db"],
    "logbook show": ["5", "--logbook", "station/verrou-logbook.db"],
    "logbook export": ["--logbook", "station/verrou-logbook.db"],
    "trend": ["--logbook", "station/verrou-logbook.db"],
}


def plain(value: object) -> object:
    """TOML as JSON has it."""
    if isinstance(value, dict):
        return {key: plain(each) for key, each in value.items()}
    if isinstance(value, list):
        return [plain(each) for each in value]
    return str(value) if isinstance(value, date) else value


def strict(part: object) -> None:
    """No object of ours may hold more than is declared, so that a fact that is added must be declared."""
    if isinstance(part, dict):
        if part.get("type") == "object":
            assert "additionalProperties" in part, part
        for each in part.values():
            strict(each)


@pytest.mark.parametrize("name", [name for name in OUTPUTS if name != "baseline file"])
def test_every_output_is_as_its_schema_says(verrou: Verrou, name: str, station: Path) -> None:
    verrou("rule", "set", "password.remember=6", "-m", MACHINES[0], "--yes")
    declared = schema(name)
    Validator.check_schema(declared)
    strict(declared)
    family = name.split()[0]
    if name in OF_SEVERAL:
        words = (*name.split(), *OF_SEVERAL[name])
        lines = name in NOT_BY_FORMAT and verrou(*words).stdout.splitlines()
        output = json.loads(lines[0]) if lines else verrou.json(*words, code=None)
        assert output
        Validator(declared, format_checker=Validator.FORMAT_CHECKER).validate(output)
        return
    for machine in MACHINES[: 1 if family in ("rule", "baseline", "journal", "group") else 3]:
        arguments = [*name.split(), *MORE.get(name, [])]
        arguments += ["shared-desk"] if name == "baseline show" else []
        at = (
            ["-m", machine]
            if family not in ("baseline",) and name not in ("rule list", "rule explain", "rule presets")
            else []
        )
        at += ["-b", "shared-desk"] if family in WITH_BASELINE else []
        if name in ("account show", "why") and machine != MACHINES[0]:
            arguments = ["ringer" if each == "daypass" else each for each in arguments]
        output = verrou.json(*arguments, *at, code=None)
        assert output
        Validator(declared, format_checker=Validator.FORMAT_CHECKER).validate(output)


def test_baseline_files_are_as_their_schema_says(verrou: Verrou, tmp_path: Path, station: Path) -> None:
    validator = Validator(json.loads(verrou("schema", "baseline", "file").stdout))
    included = sorted((Path(baseline_files.__file__).parents[1] / "baselines").glob("*.toml"))
    assert tuple(path.stem for path in included) == INCLUDED_BASELINES
    for path in (*included, tmp_path / "station/hide-01.toml", tmp_path / "station/ringing-02.toml"):
        validator.validate(plain(tomllib.loads(path.read_text())))
    for wrong in (
        '[password]\nmin_length = "14"',
        "[password]\nmax_age = 90",
        "[lockout]\nafter = 0",
        '[lockout]\nlasts = "never"',
        '[accounts.tern]\nrole = "king"',
        "[colour]\nred = 1",
        '[[waiver]]\nrule = "lockout.after"',
        '[population]\nblank_passwords = { only = ["guests"] }',
    ):
        assert not validator.is_valid(plain(tomllib.loads(wrong))), wrong
    ranges = '[password]\nmin_length = { from = 12, to = 20, reason = "x" }'
    for right in (ranges, "[lockout]\nafter = { any_of = [3, 5] }"):
        validator.validate(plain(tomllib.loads(right)))


def test_a_duration_keeps_its_value_and_a_number_its_unit() -> None:
    for rule in CATALOGUE.values():
        kind = rule.kind
        if isinstance(kind, Span):
            for raw in (f"{kind.low} {kind.unit}s", f"{kind.high} {kind.unit}s", *kind.words):
                value = kind.parse(raw)
                assert kind.load(json.loads(json.dumps(kind.dump(value)))) == value
                Validator(kind.schema()).validate(kind.dump(value))
    lasts = CATALOGUE["lockout.lasts"].kind
    assert lasts.dump(lasts.parse("90 minutes")) == {"duration": "PT1H30M"}
    assert iso_duration(lasts.parse("2 days") - lasts.parse("1 minute")) == "P1DT23H59M"  # type: ignore[operator, arg-type]
    assert CATALOGUE["password.min_length"].kind.dump(14) == {"number": 14, "unit": "characters"}


def test_the_list_of_schemas_names_what_is_there(verrou: Verrou) -> None:
    lines = verrou("schema").stdout.splitlines()
    assert lines == [f"verrou schema {name}" for name in OUTPUTS]
    assert "Did you mean account list" in verrou("schema", "acount", "list", code=2).stderr
