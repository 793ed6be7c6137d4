"""Built-in accounts, found by their fixed ID and never by name."""

# Imports within functions: steps are made only for a plan: for a quick start of what only looks.

from collections.abc import Callable, Iterator

from verrou.core import advice
from verrou.core.model import AccountName, Builtin, Effect, PasswordState, Reading, Snapshot, absent
from verrou.core.model.verdicts import Severity
from verrou.core.rules.declaration import DerivedFromAccounts, GapsOf, Rule
from verrou.core.steps.gaps import Fact, Gap
from verrou.core.values import NOT_SHIPPED, BuiltinName, Name, Value, YesNo


def _enabled(which: Builtin) -> Callable[[Snapshot], Reading]:
    def read(snapshot: Snapshot) -> Reading:
        account = snapshot.builtin(which)
        if account is None:
            return absent(f"this system has no built-in {which} account")
        usable = account.enabled and account.password is not PasswordState.NONE
        return Reading(usable, source=account.source, reason=f"the account is called {account.name}")

    return read


def _opened_or_closed(which: Builtin) -> GapsOf:
    def gaps(snapshot: Snapshot, required: Value, listed: frozenset[str]) -> Iterator[Gap]:
        from verrou.core.steps.step import SetEnabled

        account = snapshot.builtin(which)
        if account is not None:
            step = SetEnabled(account.name, bool(required), effect=Effect.NEXT_SIGN_IN)
            yield Gap(account.name, Fact.ENABLED, account.enabled, bool(required), (step,))

    return gaps


def _name(which: Builtin) -> Callable[[Snapshot], Reading]:
    def read(snapshot: Snapshot) -> Reading:
        account = snapshot.builtin(which)
        if account is None:
            return absent(f"this system has no built-in {which} account")
        if account.original_name is None:
            return absent(f"the name {account.name} is fixed on a {snapshot.machine.kind} machine")
        shipped = account.name.casefold() == account.original_name.casefold()
        return Reading(BuiltinName(account.name, shipped), source=account.source)

    return read


def _renamed(which: Builtin, rule_id: str) -> GapsOf:
    def gaps(snapshot: Snapshot, required: Value, listed: frozenset[str]) -> Iterator[Gap]:
        from verrou.core.steps.step import Rename

        account = snapshot.builtin(which)
        if account is None or not isinstance(required, BuiltinName):
            return
        if required.name == NOT_SHIPPED:
            key = rule_id.partition(".")[2]
            manual = f'choose a name: {advice.rename(account.name)}, or {key} = "{advice.NEW_NAME}" in the baseline'
            yield Gap(account.name, Fact.NAME, account.name, required.name, manual=manual)
        else:
            step = Rename(account.name, AccountName(required.name), effect=Effect.NEXT_SIGN_IN)
            yield Gap(account.name, Fact.NAME, account.name, required.name, (step,))

    return gaps


RULES = (
    Rule(
        id="builtin.admin_enabled",
        title="whether the built-in administrator can be used",
        statement={True: "the built-in administrator can be used", False: "the built-in administrator cannot be used"},
        asks={True: "required: enabled", False: "required: disabled"},
        kind=YesNo(stricter=False),
        severity=Severity.MEDIUM,
        why_severe="everyone knows it exists, it has full rights, and its use cannot be traced to a person",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Each administrator signs in with an account of their own.",
        costs="Another administrator must exist and be tested first.",
        controls=("AC-2", "AC-6(2)"),
        derived=DerivedFromAccounts(_enabled(Builtin.ADMIN), advice.disable()),
        gaps=_opened_or_closed(Builtin.ADMIN),
    ),
    Rule(
        id="builtin.guest_enabled",
        title="whether the built-in guest can be used",
        statement={True: "the built-in guest can be used", False: "the built-in guest cannot be used"},
        asks={True: "required: enabled", False: "required: disabled"},
        kind=YesNo(stricter=False),
        severity=Severity.MEDIUM,
        why_severe="it lets in people no one has registered",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="Everyone who uses the machine has an account that was created for them.",
        costs="Visitors need an account of their own.",
        controls=("AC-2",),
        derived=DerivedFromAccounts(_enabled(Builtin.GUEST), advice.disable()),
        gaps=_opened_or_closed(Builtin.GUEST),
    ),
    Rule(
        id="builtin.admin_name",
        title="name of the built-in administrator",
        statement="the built-in administrator is called {}",
        kind=Name(),
        severity=Severity.LOW,
        why_severe="a known name saves an attacker half the guess; the account can still be found by its ID",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="An attacker has to find the name before guessing the password.",
        costs=("Instructions that name the account must be changed; programs that look it up by name fail."),
        controls=("AC-2",),
        derived=DerivedFromAccounts(_name(Builtin.ADMIN), advice.rename(), needs=()),
        gaps=_renamed(Builtin.ADMIN, "builtin.admin_name"),
    ),
    Rule(
        id="builtin.guest_name",
        title="name of the built-in guest",
        statement="the built-in guest is called {}",
        kind=Name(),
        severity=Severity.LOW,
        why_severe="it matters only while the guest account is enabled",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="An attacker has to find the name before guessing the password.",
        costs="Instructions that name the account must be changed.",
        controls=("AC-2",),
        derived=DerivedFromAccounts(_name(Builtin.GUEST), advice.rename(), needs=()),
        gaps=_renamed(Builtin.GUEST, "builtin.guest_name"),
    ),
)
