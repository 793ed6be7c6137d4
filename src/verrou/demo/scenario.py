"""The Cap Fauvel machines: two bench machines, a sample Linux root to read, and the station's baselines."""

import secrets
from datetime import datetime, timedelta
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING

from verrou.demo.seasons import lay_out_seasons
from verrou.machines.bench.authority import Authority, No
from verrou.machines.bench.kind import BENCH

if TYPE_CHECKING:
    from importlib.resources.abc import Traversable

CLOCK = datetime(2026, 9, 14, 8, 30)
PROGRAMS = {"usr/bin/sudo": 0o4755, "bin/bash": 0o755, "bin/sh": 0o755, "usr/sbin/nologin": 0o755}
"""Programs of which only their mode is looked at; in the sample they are empty."""
MODULES = (
    *("access", "deny", "env", "faildelay", "faillock", "group", "nologin", "permit", "pwhistory", "pwquality"),
    *("rootok", "succeed_if", "time", "unix", "wheel"),
)
PLACEHOLDERS = (
    "usr/sbin/sshd",
    *(f"usr/lib/x86_64-linux-gnu/security/pam_{module}.so" for module in MODULES),
    "var/cache/cracklib/cracklib_dict.pwd",
)
"""What a survey asks after by name only; in the sample these files are empty."""


def lay_out(folder: Path) -> None:
    """Write all demo files into ``folder``, which must be empty."""
    _hide().save(BENCH.file_for(folder / "hide-01"))
    _ringing().save(BENCH.file_for(folder / "ringing-02"))
    _copy(files("verrou.demo") / "files", folder)
    root = folder / "warden-03"
    for name in (*PLACEHOLDERS, *PROGRAMS):
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).touch()
    for name, mode in PROGRAMS.items():
        (root / name).chmod(mode)
    for folder_kept in ("home", "etc/skel", "run", "var/lib"):
        (root / folder_kept).mkdir(parents=True, exist_ok=True)
    for home in ("home/warden", "var/lib/tidegauge"):
        keys = root / home / ".ssh/authorized_keys"
        keys.parent.mkdir(parents=True, exist_ok=True)
        keys.write_text("ssh-ed25519 SampleOnlyNoKeyOfAnybody wardens-own-laptop\n")
    crontab = root / "var/spool/cron/crontabs/petrel"
    crontab.parent.mkdir(parents=True)
    crontab.write_text("# season 2023\n@daily tar -czf /srv/counts.tar.gz counts\n")
    (root / "etc/shadow").chmod(0o600)
    lay_out_seasons(folder)


def _copy(files_kept: "Traversable", folder: Path) -> None:
    for each in files_kept.iterdir():
        target = folder / each.name
        if each.is_dir():
            target.mkdir(exist_ok=True)
            _copy(each, target)
        else:
            target.write_bytes(each.read_bytes())


def _hide() -> Authority:
    """Return the public terminal in the bird hide: a day pass that is blank and no guest, leftover accounts, weak
    rules."""
    machine = Authority.fresh("hide-01", CLOCK - timedelta(days=200))
    machine.reset_password("keeper", secrets.token_urlsafe(12))
    machine.set_open("passerby", True)
    machine.reset_password("passerby", "")
    terns = secrets.token_urlsafe(12)
    machine.add("tern", "Tara Tern", terns, must_change=False)
    machine.add("guillemot", "Gil Guillemot, season 2024", secrets.token_urlsafe(12), must_change=False)
    machine.add("daypass", "day visitors", "", must_change=False)
    machine.describe("tern", "hint", "the ship, and the year we saw the albatross")
    machine.set_recovery("guillemot", {"Which bird did you see first?": secrets.token_urlsafe(12)})
    machine.put("guillemot", "/people/guillemot/counts-2024.ods", 48_200)
    machine.put("guillemot", "/people/guillemot/cliff.jpg", 3_120_000)
    machine.put("guillemot", "/shared/rota-2024.ods", 22_400)
    for key, value in {
        "try_limit": 50,
        "lock_minutes": 5,
        "window_minutes": 5,
        "length": 6,
        "age_max_days": 0,
        "blank_by": ["console", "network", "remote-screen"],
    }.items():
        machine.set_policy(key, value)
    machine.set_policy("opens_as", next(a["id"] for a in machine.accounts() if a["name"] == "guillemot"))
    machine.set_policy("duty_clock", None)
    machine.clock = CLOCK - timedelta(days=3)
    machine.sign_out(machine.sign_in("tern", terns))
    machine.clock = CLOCK
    machine.set_front(machine.sign_in("daypass", ""))
    return machine


def _ringing() -> Authority:
    """Return the laptop in the ringing hut, in French.

    Everyone is an administrator, one account is locked, a helper's account has expired, and one is linked to an online
    identity."""
    machine = Authority.fresh("ringing-02", CLOCK - timedelta(days=90), language="fr")
    machine.rename("gardien", "phare")
    machine.reset_password("phare", secrets.token_urlsafe(12))
    people = (
        ("ringer", "the ringers"),
        ("ana", "Ana Alk"),
        ("bors", "Bors Brandgans"),
        ("petrel", "Petra Petrel, helper in July"),
        ("fulmar", "Finn Fulmar"),
    )
    ringers = secrets.token_urlsafe(12)
    for name, full_name in people:
        password = ringers if name == "ringer" else secrets.token_urlsafe(12)
        machine.add(name, full_name, password, must_change=name == "fulmar")
    machine.join("ringer", "gestionnaires")
    machine.join("ana", "utilisateurs distants")
    machine.describe("ringer", "note", "data entry in the hut")
    machine.mark("ana", "never_ends", True)
    machine.mark("bors", "cannot_change", True)
    machine.set_end("petrel", CLOCK - timedelta(days=45))
    machine.tie("fulmar", "finn@birds.example")
    machine.add_group("ringers", "can open the ringing data")
    for name in ("ringer", "ana", "bors"):
        machine.join(name, "ringers")
    machine.put("ringer", "/people/ringer/season-2026.csv", 912_000)
    for key, value in {"try_limit": 5, "lock_minutes": 0, "length": 8, "classes": 2, "name_inside": False}.items():
        machine.set_policy(key, value)
    machine.set_policy("idle_minutes", 10)
    machine.set_idle("ana", 0)
    machine.clock = CLOCK - timedelta(days=20)
    machine.reset_password("ringer", ringers)
    machine.clock = CLOCK
    machine.set_front(machine.sign_in("ringer", ringers))
    for _ in range(5):
        try:
            machine.sign_in("bors", "herring gull")
        except No:
            continue
    return machine
