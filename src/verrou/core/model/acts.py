"""What a user may do once signed in, what is asked first, and by which rules."""

from collections.abc import Mapping
from enum import StrEnum

from verrou.core import advice
from verrou.core.model.access import known_role
from verrou.core.model.elevation import PromptOutcome, decided_by, elevation_outcome, is_the_system, subject_of
from verrou.core.model.facts import Account, Reading, Role, Source, Status
from verrou.core.model.known import Known, all_of
from verrou.core.model.programs import ElevationSubject, Program
from verrou.core.model.reasons import MET_WORDS, Reason, Why
from verrou.core.model.snapshot import Snapshot
from verrou.core.values import EVERYONE, GROUP


class UserAct(StrEnum):
    """What a signed-in user may want to do to the machine."""

    RUN_SYSTEM = "run-system"
    RUN_SIGNED = "run-signed"
    RUN_UNSIGNED = "run-unsigned"
    INSTALL = "install"
    SHUT_DOWN = "shut-down"
    SET_CLOCK = "set-clock"

    @property
    def phrase(self) -> str:
        """The act behind "can"."""
        return {
            UserAct.RUN_SYSTEM: "run the system's own programs as an administrator",
            UserAct.RUN_SIGNED: "run signed programs as an administrator",
            UserAct.RUN_UNSIGNED: "run unsigned programs as an administrator",
            UserAct.INSTALL: "install software",
            UserAct.SHUT_DOWN: "shut the machine down",
            UserAct.SET_CLOCK: "set the clock",
        }[self]


PROGRAMS: Mapping[UserAct, Program] = {
    UserAct.RUN_SYSTEM: Program.SYSTEM,
    UserAct.RUN_SIGNED: Program.SIGNED,
    UserAct.RUN_UNSIGNED: Program.UNSIGNED,
    UserAct.INSTALL: Program.INSTALLER,
}
"""The kind of program that is elevated for an act."""
RIGHTS: Mapping[UserAct, str] = {
    UserAct.INSTALL: "rights.install_software",
    UserAct.SHUT_DOWN: "rights.shut_down",
    UserAct.SET_CLOCK: "rights.set_clock",
}
"""The right that an act needs."""
INSTALLER = "sharing.installer"


def why_act(act: UserAct, account: Account, snapshot: Snapshot) -> Why:
    """Return whether an account may do something once it is signed in, what is asked first, and the reasons.

    Where a program that is elevated has every right, as on Linux, that is another way to do it."""
    if is_the_system(account, snapshot):
        reason = Reason(True, "it is the system itself, which needs no right", account.source)
        return Why(account.name, act, Known.YES, (reason,), prompt=MET_WORDS[PromptOutcome.NO_PROMPT])
    elevated = snapshot.machine.elevation_has_every_right
    found = []
    if act in RIGHTS:
        found.append(_by_right(RIGHTS[act], account, snapshot))
    if act is UserAct.INSTALL and not elevated:
        found.append(_by_installer(account, snapshot))
    asked = ""
    if act in PROGRAMS and not (elevated and act in RIGHTS):
        met = elevation_outcome(account, snapshot, PROGRAMS[act])
        found.append(_by_elevation(met, PROGRAMS[act], account, snapshot))
        asked = MET_WORDS[met]
    answer = all_of(known for known, _ in found)
    if elevated and act in RIGHTS and answer is not Known.YES:
        met = elevation_outcome(account, snapshot)
        instead, reason = _by_elevation(met, Program.SIGNED, account, snapshot)
        if instead is not Known.NO:
            return Why(account.name, act, instead, (reason,), prompt=MET_WORDS[met])
        found.append((instead, reason))
    chain = [reason for known, reason in found if known is answer]
    return Why(account.name, act, answer, tuple(chain), prompt=asked if answer is Known.YES else "")


def _by_right(rule_id: str, account: Account, snapshot: Snapshot) -> tuple[Known, Reason]:
    reading = snapshot.readings.get(rule_id)
    if reading is None or not isinstance(reading.value, frozenset):
        return Known.UNKNOWN, _unknown(rule_id, reading)
    mine = {EVERYONE, str(account.name), *(f"{GROUP}{group}" for group in account.groups)}
    if mine & reading.value:
        return Known.YES, Reason(True, f"{rule_id} lists {_named(mine & reading.value)}", reading.source)
    more = ",".join(sorted({*reading.value, str(account.name)}))
    change = advice.set_rule(f"{rule_id}={more}")
    return Known.NO, Reason(False, f"{rule_id} does not list {account.name}", reading.source, change)


def _named(listed: set[str] | frozenset[str]) -> str:
    first = min(listed, key=lambda name: (name != EVERYONE, name))
    return f"group {first.removeprefix(GROUP)}" if first.startswith(GROUP) else first


def _by_installer(account: Account, snapshot: Snapshot) -> tuple[Known, Reason]:
    reading = snapshot.readings.get(INSTALLER)
    if reading is not None and reading.status is Status.NOT_APPLICABLE:
        return Known.YES, Reason(True, reading.reason, reading.source)
    if reading is None or reading.value is None:
        return Known.UNKNOWN, _unknown(INSTALLER, reading)
    role = known_role(account, snapshot)
    administers = role is Role.ADMINISTRATOR
    if reading.value == "administrators" and role is Known.UNKNOWN:
        return Known.UNKNOWN, _unknown("whether it is an administrator", reading)
    if reading.value == "everyone" or (reading.value == "administrators" and administers):
        return Known.YES, Reason(True, f"{INSTALLER} lets {reading.value} run an installer", reading.source)
    change = advice.set_rule(f"{INSTALLER}={'administrators' if administers else 'everyone'}")
    return Known.NO, Reason(False, f"{INSTALLER} lets {reading.value} run an installer", reading.source, change)


def _by_elevation(met: PromptOutcome, program: Program, account: Account, snapshot: Snapshot) -> tuple[Known, Reason]:
    reading = decided_by(account, snapshot)
    source = reading.source if reading is not None else None
    who = subject_of(account, snapshot)
    rule_id = f"elevation.{who}"
    if met is PromptOutcome.UNKNOWN or known_role(account, snapshot) is Known.UNKNOWN:
        return Known.UNKNOWN, _unknown(rule_id, reading)
    if met is not PromptOutcome.DENIED:
        return Known.YES, Reason(True, f"before it is elevated, {MET_WORDS[met]} ({rule_id})", source)
    weaker = "admin-password" if who in (ElevationSubject.STANDARD, ElevationSubject.GUEST) else "password"
    row = "" if snapshot.machine.elevation_has_every_right else f"{program}="
    change = advice.set_rule(f"{rule_id}={row}{weaker}")
    return Known.NO, Reason(False, f"elevation is denied ({rule_id})", source, change)


def _unknown(what: str, reading: Reading | None) -> Reason:
    reason = f": {reading.reason}" if reading is not None and reading.reason else ""
    source: Source | None = reading.source if reading is not None else None
    return Reason(False, f"{what} is not known{reason}", source, reading.remedy if reading is not None else "")
