"""The accounts that came with the system, found by their fixed identity and never by name."""

from collections.abc import Callable

from verrou.core.model import Builtin, Effect, PasswordState, Posture, Reading, absent
from verrou.core.rules.declaration import Rule, Severity
from verrou.core.values import BuiltinName, Name, YesNo

KEPT_ENABLED = {
    "linux": "the account with uid 0; disabled means that no password can match (! or * in /etc/shadow). Programs and "
    "elevation still run as it",
    "bench": "the account whose identity ends in 500 (administrator) or 501 (guest); disabled means that nobody "
    "signs in as it, by any way",
}
KEPT_NAME = {
    "linux": "not kept: programs rely on the name root, so it is not changed",
    "bench": "the name of the account whose identity ends in 500 or 501",
}


def _enabled(which: Builtin) -> Callable[[Posture], Reading]:
    def read(posture: Posture) -> Reading:
        account = posture.builtin(which)
        if account is None:
            return absent(f"this system ships no built-in {which} account")
        usable = account.enabled and account.password is not PasswordState.NONE
        return Reading(usable, source=account.source, reason=f"the account is called {account.name}")

    return read


def _name(which: Builtin) -> Callable[[Posture], Reading]:
    def read(posture: Posture) -> Reading:
        account = posture.builtin(which)
        if account is None:
            return absent(f"this system ships no built-in {which} account")
        if account.shipped_name is None:
            return absent(f"the name {account.name} is fixed on a {posture.machine.kind} machine")
        shipped = account.name.casefold() == account.shipped_name.casefold()
        return Reading(BuiltinName(account.name, shipped), source=account.source)

    return read


RULES = (
    Rule(
        id="builtin.admin_enabled",
        title="the built-in administrator can be used",
        kind=YesNo(stricter=False),
        severity=Severity.SERIOUS,
        why_severe="everybody knows that it exists, it can do everything, and nobody can tell who used it",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Each administrator signs in under a name of their own.",
        costs="There must be another administrator, tried, before it is disabled.",
        kept=KEPT_ENABLED,
        controls=("AC-2", "AC-6(2)"),
        derive=_enabled(Builtin.ADMIN),
    ),
    Rule(
        id="builtin.guest_enabled",
        title="the built-in guest can be used",
        kind=YesNo(stricter=False),
        severity=Severity.SERIOUS,
        why_severe="it lets in people nobody has named",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Whoever may use the machine has an account that somebody made for them.",
        costs="Visitors need an account of their own.",
        kept=KEPT_ENABLED,
        controls=("AC-2",),
        derive=_enabled(Builtin.GUEST),
    ),
    Rule(
        id="builtin.admin_name",
        title="name of the built-in administrator",
        kind=Name(),
        severity=Severity.SLIGHT,
        why_severe="a known name saves a guesser half the work; the identity can still be looked up",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Guessing needs a name first.",
        costs="Instructions that name the account must be changed; programs that look for it by name fail.",
        kept=KEPT_NAME,
        controls=("AC-2",),
        derive=_name(Builtin.ADMIN),
    ),
    Rule(
        id="builtin.guest_name",
        title="name of the built-in guest",
        kind=Name(),
        severity=Severity.SLIGHT,
        why_severe="it matters only while the guest is enabled",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Guessing needs a name first.",
        costs="Instructions that name the account must be changed.",
        kept=KEPT_NAME,
        controls=("AC-2",),
        derive=_name(Builtin.GUEST),
    ),
)
