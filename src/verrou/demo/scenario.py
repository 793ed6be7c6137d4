"""Lays out the Cap Fauvel machines: two bench machines, a sample Linux root to read, and the station's baselines."""

import secrets
from datetime import datetime, timedelta
from pathlib import Path

from verrou.machines import BENCH_SUFFIX
from verrou.machines.bench.authority import Authority, No

FILES = Path(__file__).parent / "files"
CLOCK = datetime(2026, 9, 14, 8, 30)
PLACEHOLDERS = (
    "usr/bin/sudo",
    "usr/lib/x86_64-linux-gnu/security/pam_faillock.so",
    "usr/lib/x86_64-linux-gnu/security/pam_pwhistory.so",
    "usr/lib/x86_64-linux-gnu/security/pam_pwquality.so",
    "var/cache/cracklib/cracklib_dict.pwd",
)
"""What a survey asks after by name only; in the sample these files are empty."""


def lay_out(folder: Path) -> None:
    """Write all demo files into ``folder``, which must be empty."""
    _hide().save(folder / f"hide-01{BENCH_SUFFIX}")
    _ringing().save(folder / f"ringing-02{BENCH_SUFFIX}")
    for path in sorted(FILES.rglob("*")):
        target = folder / path.relative_to(FILES)
        if path.is_dir():
            target.mkdir(exist_ok=True)
        else:
            target.write_bytes(path.read_bytes())
    root = folder / "warden-03"
    for name in PLACEHOLDERS:
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).touch()
    for folder_kept in ("home", "etc/skel", "run", "var/lib"):
        (root / folder_kept).mkdir(parents=True, exist_ok=True)
    (root / "etc/shadow").chmod(0o600)


def _hide() -> Authority:
    """The public terminal in the bird hide: a blank day pass that is no guest, a leftover account, weak rules."""
    machine = Authority.fresh("hide-01", CLOCK - timedelta(days=200))
    machine.reset_password("keeper", secrets.token_urlsafe(12))
    machine.set_open("visitor", True)
    machine.reset_password("visitor", "")
    machine.add("tern", "Tara Tern", secrets.token_urlsafe(12), must_change=False)
    machine.add("guillemot", "Gil Guillemot, season 2024", secrets.token_urlsafe(12), must_change=False)
    machine.add("daypass", "day visitors", "", must_change=False)
    for key, value in {
        "try_limit": 50,
        "lock_minutes": 5,
        "window_minutes": 5,
        "length": 6,
        "age_max_days": 0,
        "blank_console_only": False,
    }.items():
        machine.set_policy(key, value)
    machine.clock = CLOCK
    machine.sign_in("daypass", "")
    return machine


def _ringing() -> Authority:
    """The laptop in the ringing hut, in French: everybody works as an administrator, and somebody is locked out."""
    machine = Authority.fresh("ringing-02", CLOCK - timedelta(days=90), language="fr")
    machine.rename("gardien", "phare")
    machine.reset_password("phare", secrets.token_urlsafe(12))
    for name, full_name in (("ringer", "the ringers"), ("ana", "Ana Alk"), ("bors", "Bors Brandgans")):
        machine.add(name, full_name, secrets.token_urlsafe(12), must_change=False)
    machine.join("ringer", "gestionnaires")
    for key, value in {"try_limit": 5, "lock_minutes": 0, "length": 8, "classes": 2, "name_inside": False}.items():
        machine.set_policy(key, value)
    machine.clock = CLOCK
    for _ in range(5):
        try:
            machine.sign_in("bors", "herring gull")
        except No:
            continue
    return machine
