"""Names of accounts and groups that adapters write: checked ones, and the groups of administrators."""

from datetime import datetime

from verrou.core.values import EVERYONE, GROUP, Value
from verrou.machines.linux.accounts.population import AccountFiles
from verrou.machines.linux.files.account_files import GroupField
from verrou.machines.linux.files.sudoers import Sudoers
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root


def checked_names(root: Root, value: Value) -> tuple[str, ...]:
    """Return the names of a list, each of which this system must know.

    Raises: StepRejected: there is no such account or group."""
    assert isinstance(value, frozenset)
    files = AccountFiles.load(root)
    known = {record.name for record in files.passwd.records()}
    known |= {f"{GROUP}{record.name}" for record in files.group.records()}
    if strange := sorted(value - known - {EVERYONE}):
        what = "group" if strange[0].startswith(GROUP) else "account"
        raise StepRejected(f"there is no {what} {strange[0].removeprefix(GROUP)} here")
    return tuple(sorted(value))


def administering_groups(root: Root) -> list[str]:
    """Return the groups whose members are administrators by sudoers(5) now."""
    sudoers, now = Sudoers.load(root), datetime.now()
    return [
        record.name
        for record in AccountFiles.load(root).group.records()
        if sudoers.makes_administrators(record.name, int(record.fields[GroupField.GID]), now)
    ]
