"""Homes of new accounts, from the skeleton."""

import os
import shutil
from collections.abc import Mapping, Sequence
from pathlib import Path

from attrs import frozen

from verrou.core.model import Source
from verrou.core.steps import CreateAccount, Remove, Step
from verrou.machines.linux.account_files import PASSWD, AccountFile
from verrou.machines.linux.root import Root

HOMES = "/home"
SKELETON = "/etc/skel"


@frozen
class NewHome:
    """A home to be made. One that is not ``kept`` stays root's own and empty: sessions get another in its place."""

    name: str
    uid: int
    gid: int
    kept: bool


def make_home(root: Root, home: NewHome, defs: Mapping[str, tuple[str, Source]]) -> None:
    """The home and what the skeleton holds, with the account as owner; links are copied as links."""
    mode = int(defs["HOME_MODE"][0], 8) if "HOME_MODE" in defs else 0o700
    target, skeleton = root.place(home.name), root.place(SKELETON)
    target.parent.mkdir(mode=0o755, parents=True, exist_ok=True)
    target.mkdir(mode=0o700)
    if not home.kept:
        os.chmod(target, 0o755)
        return
    if skeleton.is_dir():
        shutil.copytree(skeleton, target, symlinks=True, dirs_exist_ok=True)
    for folder, folders, names in os.walk(target):
        for name in (*folders, *names):
            os.chown(Path(folder, name), home.uid, home.gid, follow_symlinks=False)
    os.chown(target, home.uid, home.gid)
    os.chmod(target, mode)


def homes_of(root: Root, steps: Sequence[Step]) -> list[str]:
    """Every file and folder that the steps' new homes would bring, by name, and the homes that removing would take."""
    skeleton = root.place(SKELETON)
    inside = [str(path.relative_to(skeleton)) for path in skeleton.rglob("*")] if skeleton.is_dir() else []
    made = [step for step in steps if isinstance(step, CreateAccount)]
    homes = [step.home or f"{HOMES}/{step.account}" for step in made]
    going = {step.account for step in steps if isinstance(step, Remove)}
    records = AccountFile.parse(PASSWD, root.text(PASSWD) or "").records() if going else ()
    left = [r.fields[5] for r in records if r.name in going and r.fields[5].startswith("/")]
    return left + [name for home in homes for name in (home, *(f"{home}/{path}" for path in inside))]
