"""Records of runs for the logbook. They contain no secret, hash or hint."""

from collections.abc import Callable, Sequence
from datetime import datetime

from verrou.core.history.records import AccountRecord, FindingRecord, ReadingRecord, RunRecord, TrialRecord
from verrou.core.history.runs import Run
from verrou.core.judging.audit import Audit
from verrou.core.model import Snapshot
from verrou.core.model.access import known_role
from verrou.core.model.verdicts import TrialResult
from verrou.core.rules import CATALOGUE, reading_of, value_now


def record_of(
    run: Run,
    snapshot: Snapshot,
    plain: Callable[[object], str],
    *,
    key: str,
    at: datetime,
    by: str,
    tool: str,
    found: Audit | None = None,
    digest: str = "",
    trials: Sequence[TrialResult] = (),
    entry: int | None = None,
) -> RunRecord:
    """Return the record of a run; ``plain`` makes text from a machine safe for any screen.

    Readings are recorded for a survey alone: an audit already has the state of each rule."""
    machine = snapshot.machine
    return RunRecord(
        key,
        run,
        at.replace(microsecond=0),
        machine.now.replace(microsecond=0),
        plain(by),
        tool,
        plain(machine.known_by),
        plain(machine.name),
        plain(machine.system),
        plain(found.baseline) if found else "",
        digest,
        entry,
        tuple(
            FindingRecord(
                plain(finding.subject),
                finding.severity,
                finding.verdict,
                finding.waiver.until if finding.waiver else None,
                plain(finding.waiver.by) if finding.waiver else "",
            )
            for finding in (found.findings if found else ())
        ),
        tuple(
            AccountRecord(
                plain(account.name),
                known_role(account, snapshot),
                account.enabled,
            )
            for account in snapshot.accounts
        ),
        tuple(ReadingRecord(rule.id, plain(value_now(rule, reading_of(rule, snapshot)))) for rule in CATALOGUE.values())
        if run is Run.SURVEY
        else (),
        tuple(TrialRecord(trial.rule, plain(trial.test), trial.result) for trial in trials),
    )
