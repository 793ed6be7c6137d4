"""Steps of a change plan: what each does, and what the machine is afterwards."""

from collections.abc import Mapping
from datetime import date
from enum import StrEnum
from typing import TypeAlias, assert_never

from attrs import define, field

from verrou.core.model import (
    AccountName,
    Detail,
    Effect,
    Files,
    Flag,
    GroupName,
    Role,
    RuleId,
)
from verrou.core.values import Kind, Value

HOW_A_PASSWORD_COMES = {
    "ask": "a password you type",
    "generate": "a generated password",
    "blank": "a blank password",
}


@define(frozen=True, slots=False, repr=False, kw_only=True)
class _Step:
    """Base of all steps.

    ``closes`` are the requirements that the step is for (rule ids, ``accounts.NAME``, ``groups.NAME``), ``why`` is the
    reason in words, ``effect`` when it takes effect."""

    closes: tuple[str, ...] = ()
    why: str = ""
    effect: Effect = Effect.NOW

    @property
    def concerns(self) -> str:
        """What a person should know about the subject of the step, such as files that remain."""
        return ""


@define(frozen=True, slots=False, repr=False)
class RuleSetting:
    """A rule, the kind of its values, and the value to set."""

    rule_id: RuleId
    kind: Kind
    value: Value

    def __str__(self) -> str:
        return f"{self.rule_id} to {self.kind.format(self.value)}"


@define(frozen=True, slots=False, repr=False)
class SetRules(_Step):
    """Set the rules together, so that no side effect of the machine undoes one of them."""

    settings: tuple[RuleSetting, ...]

    @property
    def values(self) -> dict[str, Value]:
        """Values to set, by rule."""
        return {setting.rule_id: setting.value for setting in self.settings}

    @property
    def what(self) -> str:
        return "set " + ", ".join(map(str, self.settings))


@define(frozen=True, slots=False, repr=False)
class CreateAccount(_Step):
    """Create an account that a person signs in with.

    ``password`` says how the first one is supplied. ``home`` and ``shell`` are the machine's defaults where empty;
    without ``home_kept`` each session gets a temporary home."""

    account: AccountName
    role: Role
    full_name: str = ""
    password: str = "ask"
    must_change: bool = True
    note: str = ""
    home: str = ""
    shell: str = ""
    cannot_change: bool = False
    home_kept: bool = True
    until: date | None = None

    @property
    def what(self) -> str:
        parts = [f"create {self.role} account {self.account} with {HOW_A_PASSWORD_COMES[self.password]}"]
        parts += ["to be changed at the first sign-in"] if self.must_change else []
        parts += ["fixed"] if self.cannot_change else []
        parts += [f"until {self.until}"] if self.until else []
        parts += ["with an empty home folder for each session"] if not self.home_kept else []
        return ", ".join(parts)


@define(frozen=True, slots=False, repr=False)
class SetEnabled(_Step):
    """Enable or disable an account; its files and groups stay. ``files`` are those of a disabled account."""

    account: AccountName
    enabled: bool
    files: Files | None = None

    @property
    def what(self) -> str:
        return f"{'enable' if self.enabled else 'disable'} account {self.account}"

    @property
    def concerns(self) -> str:
        some = self.files is not None and (self.files.count or self.files.elsewhere_count or self.files.remark)
        return f"it will no longer reach: {self.files}" if some else ""


class FilesChoice(StrEnum):
    """What happens to the files of an account that is removed."""

    KEEP = "keep"
    ARCHIVE = "archive"
    DELETE = "delete"
    HAND_OVER = "hand-over"


@define(frozen=True, slots=False, repr=False)
class Remove(_Step):
    """Remove an account permanently.

    ``files`` are its files by place, ``choice`` what happens to its home; an account ``to`` which files are handed over
    gets all of them, those elsewhere too."""

    account: AccountName
    choice: FilesChoice
    files: Files | None = None
    to: str = ""

    @property
    def what(self) -> str:
        done = {
            FilesChoice.KEEP: "keep its files for root",
            FilesChoice.ARCHIVE: "archive its files",
            FilesChoice.DELETE: "delete its files",
            FilesChoice.HAND_OVER: f"transfer its files to {self.to}",
        }[self.choice]
        return f"remove account {self.account} and {done}"

    @property
    def concerns(self) -> str:
        return f"it has {self.files}" if self.files else ""


@define(frozen=True, slots=False, repr=False)
class StopJobs(_Step):
    """Remove the jobs that run automatically as an account, where they are system files about it alone.

    They are its crontab, its at jobs, and the mark that starts its services with the machine."""

    account: AccountName

    @property
    def what(self) -> str:
        return f"remove the jobs of account {self.account}"


@define(frozen=True, slots=False, repr=False)
class TrySignIn(_Step):
    """Sign in as an account at the console with its own password, or with ``blank`` without any; no trace remains.

    The rights of ``role`` are tested too: an administrator elevates, a standard user cannot, and a guest cannot sign in
    by another route."""

    account: AccountName
    role: Role = Role.ADMINISTRATOR
    blank: bool = False

    @property
    def what(self) -> str:
        also = {Role.ADMINISTRATOR: ", and elevate", Role.GUEST: ", and by no other route"}.get(
            self.role, ", and check that it cannot elevate"
        )
        how = " without a password" if self.blank else ""
        return f"test account {self.account}: sign in at the console{how}{also}"


@define(frozen=True, slots=False, repr=False)
class Rename(_Step):
    """Rename an account; its ID, groups and files stay."""

    account: AccountName
    new_name: AccountName

    @property
    def what(self) -> str:
        return f"rename account {self.account} to {self.new_name}"


@define(frozen=True, slots=False, repr=False)
class Join(_Step):
    """Add an account to a group."""

    account: AccountName
    group: GroupName
    effect: Effect = field(default=Effect.NEXT_SIGN_IN, kw_only=True)

    @property
    def what(self) -> str:
        return f"add account {self.account} to group {self.group}"


@define(frozen=True, slots=False, repr=False)
class Leave(_Step):
    """Remove an account from a group."""

    account: AccountName
    group: GroupName
    effect: Effect = field(default=Effect.NEXT_SIGN_IN, kw_only=True)

    @property
    def what(self) -> str:
        return f"remove account {self.account} from group {self.group}"


@define(frozen=True, slots=False, repr=False)
class SetPassword(_Step):
    """Set another password. ``password`` says how it is supplied."""

    account: AccountName
    password: str = "ask"
    must_change: bool = True

    @property
    def what(self) -> str:
        change = ", to be changed at the next sign-in" if self.must_change else ""
        return f"set the password of account {self.account}: {HOW_A_PASSWORD_COMES[self.password]}{change}"


@define(frozen=True, slots=False, repr=False)
class Unlock(_Step):
    """Unlock an account after failed attempts, and clear them."""

    account: AccountName

    @property
    def what(self) -> str:
        return f"unlock account {self.account} and clear its failed attempts"


@define(frozen=True, slots=False, repr=False)
class SetEnd(_Step):
    """Set the last day on which an account works, or clear it (None)."""

    account: AccountName
    until: date | None
    effect: Effect = field(default=Effect.NEXT_SIGN_IN, kw_only=True)

    @property
    def what(self) -> str:
        return f"account {self.account}: " + (f"expire after {self.until}" if self.until else "remove the expiry date")


@define(frozen=True, slots=False, repr=False)
class SetFlags(_Step):
    """Set marks about the password of an account (True), or clear them (False); None leaves a mark as it is."""

    account: AccountName
    change_due: bool | None = None
    cannot_change: bool | None = None
    ageing_exempt: bool | None = None

    @property
    def flags(self) -> Mapping[Flag, bool]:
        """The marks that the step changes."""
        values = {flag: getattr(self, flag.value) for flag in Flag}
        return {flag: value for flag, value in values.items() if value is not None}

    @property
    def what(self) -> str:
        words = {
            (Flag.CHANGE_DUE, True): "require a password change at the next sign-in",
            (Flag.CHANGE_DUE, False): "do not require a password change",
            (Flag.CANNOT_CHANGE, True): "fix the password (only an administrator can change it)",
            (Flag.CANNOT_CHANGE, False): "let the user change the password",
            (Flag.AGEING_EXEMPT, True): "exempt from password ageing",
            (Flag.AGEING_EXEMPT, False): "apply password ageing",
        }
        return f"account {self.account}: " + ", ".join(words[flag] for flag in self.flags.items())


@define(frozen=True, slots=False, repr=False)
class SetDetails(_Step):
    """Change the full name, note or shell of an account, or remove what reveals its password."""

    account: AccountName
    details: tuple[tuple[Detail, str], ...]

    @property
    def what(self) -> str:
        message = [f"{detail.value.replace('_', ' ')} {text!r}" for detail, text in self.details if text]
        gone = [detail.value.replace("_", " ") for detail, text in self.details if not text]
        parts = [f"set the {' and the '.join(message)} of account {self.account}"] if message else []
        parts += [f"remove the {' and the '.join(gone)} of account {self.account}"] if gone else []
        return ", ".join(parts)


@define(frozen=True, slots=False, repr=False)
class CreateGroup(_Step):
    """Create a group. Members of a ``confined`` group can sign in at the console only, which makes them guests."""

    group: GroupName
    note: str = ""
    confined: bool = False

    @property
    def what(self) -> str:
        return f"create group {self.group}" + (
            " for guests, who can sign in at the console only" if self.confined else ""
        )


@define(frozen=True, slots=False, repr=False)
class RemoveGroup(_Step):
    """Remove a group; its members stay."""

    group: GroupName
    effect: Effect = field(default=Effect.NEXT_SIGN_IN, kw_only=True)

    @property
    def what(self) -> str:
        return f"remove group {self.group}"


@define(frozen=True, slots=False, repr=False)
class SetGroupNote(_Step):
    """Change the note of a group."""

    group: GroupName
    note: str

    @property
    def what(self) -> str:
        return f"note for group {self.group}: {self.note!r}"


GroupStep: TypeAlias = CreateGroup | RemoveGroup | SetGroupNote
Membership: TypeAlias = Join | Leave
Adjustment: TypeAlias = SetPassword | Unlock | SetEnd | SetFlags | SetDetails
"""Changes one account, and neither its name nor its rights."""
AccountStep: TypeAlias = CreateAccount | SetEnabled | Remove | StopJobs | TrySignIn | Rename | Membership | Adjustment
Step: TypeAlias = SetRules | AccountStep | GroupStep
GIVES_PASSWORD = (CreateAccount, SetPassword)


def account_of(step: Step) -> AccountName | None:
    """Return the account a step is about, by its name before the step."""
    if isinstance(step, AccountStep):
        return step.account
    if isinstance(step, SetRules | GroupStep):
        return None
    assert_never(step)


def takes_access(step: Step) -> bool:
    """Return whether the step disables or removes an account, so that its files are out of reach."""
    return isinstance(step, Remove) or (isinstance(step, SetEnabled) and not step.enabled)
