"""A real root with many people, as a large shared system has them: homes, keys, hashes of several kinds and ages,
sign-ins, groups, lines for sudo."""

import os
import random
from pathlib import Path

from debian_root import PrivateRoot
from verrou.machines.linux.files.account_files import GROUP, GSHADOW, PASSWD, SHADOW
from verrou.machines.linux.files.sign_ins import LASTLOG_RECORD

HASHES = (
    "$y$j9T$CapFauvelSampleSalt00$SampleOnlyNoPasswordMatches0123456789abcdef",
    "$6$CapFauvelSample$SampleOnlyNoPasswordMatches0123456789abcdefSampleOnlyNoPasswordMatches0123456789",
    "!$y$j9T$CapFauvelSampleSalt00$SampleOnlyNoPasswordMatches0123456789abcdef",
    "",
    "*",
)
KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPYLVDhmzhi3YUgdXk0{:06} x\n"
FIRST_ID, GROUPS, LASTLOG_SIZE = 1000, 40, 292


def fill(root: PrivateRoot, count: int, seed: int = 23) -> None:
    """Add so many people to the account files of a root, and what belongs to them."""
    chance = random.Random(seed)
    members: dict[int, list[str]] = {number: [] for number in range(GROUPS)}
    texts: dict[str, list[str]] = {PASSWD: [], SHADOW: [], GROUP: [], GSHADOW: []}
    sudoers = ["gull0 ALL=(ALL:ALL) ALL\n", "%ringers3 ALL=(root) /usr/bin/systemctl restart kiosk\n"]
    with open(root.path / "var/log/lastlog", "r+b") as lastlog:
        for number in range(count):
            name, uid = f"gull{number}", FIRST_ID + number
            shell = chance.choice(("/bin/bash",) * 8 + ("/bin/sh", "/usr/sbin/nologin"))
            secret = HASHES[0] if number == 0 else chance.choice((HASHES[0],) * 6 + HASHES)
            changed, longest = 20_000 + chance.randrange(500), chance.choice(("99999", "99999", "90", "365", ""))
            until = chance.choice(("", "", "", str(20_400 + chance.randrange(900))))
            texts[PASSWD].append(f"{name}:x:{uid}:{uid}:Gull {number}:/home/{name}:{shell}\n")
            texts[SHADOW].append(f"{name}:{secret}:{changed}:0:{longest}:7::{until}:\n")
            texts[GROUP].append(f"{name}:x:{uid}:\n")
            texts[GSHADOW].append(f"{name}:!::\n")
            members[chance.randrange(GROUPS)].append(name)
            home = root.path / "home" / name
            home.mkdir(mode=0o700)
            os.chown(home, uid, uid)
            if number % 4 == 0:
                _keys(home, uid, number)
            if number % 3:
                record = LASTLOG_RECORD.pack(1_780_000_000 + chance.randrange(10_000_000), b"tty1", b"")
                lastlog.seek(uid * LASTLOG_SIZE)
                lastlog.write(record)
            if number % 200 == 7:
                sudoers.append(f"{name} ALL=(root) NOPASSWD: /usr/sbin/reboot\n")
    for number, names in members.items():
        texts[GROUP].append(f"ringers{number}:x:{900_000 + number}:{','.join(names)}\n")
        texts[GSHADOW].append(f"ringers{number}:!::{','.join(names)}\n")
    for place, lines in texts.items():
        with open(root.path / place.lstrip("/"), "a") as file:
            file.writelines(lines)
    root.write("/etc/sudoers.d/station", "".join(sudoers))
    (root.path / "etc/sudoers.d/station").chmod(0o440)


def _keys(home: Path, uid: int, number: int) -> None:
    folder = home / ".ssh"
    folder.mkdir(mode=0o700)
    keys = folder / "authorized_keys"
    keys.write_text(KEY.format(number))
    for place in (folder, keys):
        os.chown(place, uid, uid)
