"""Homes are counted, archived and deleted, over generated trees: nothing outside is touched, nothing inside lost."""

import os
import shutil
import stat
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from attrs import evolve
from hypothesis import given
from hypothesis import strategies as st

from verrou.core.errors import MachineRefused
from verrou.core.model import Source
from verrou.machines.changes import PlaceState
from verrou.machines.folder_operations import ArchiveHome, BringHome, MakeHome, TakeHome
from verrou.machines.linux.accounts import homes
from verrou.machines.linux.accounts.homes import FOLDER_FLAGS, Home, NoHome, files_of, walk_open
from verrou.machines.linux.accounts.new_homes import is_as_made, making
from verrou.machines.linux.apply.applier import Applier
from verrou.machines.linux.root import Root

UID = 1001
ARCHIVE = "/var/lib/verrou/archives/tern-20260914-083000.tar.gz"
ARCHIVING = ArchiveHome("/home/tern", UID, ARCHIVE)
TAKING = TakeHome("/home/tern", UID)
BRINGING = BringHome("/home/tern", UID, ARCHIVE)
NAMES = st.sampled_from(["a", "b", ".c", "ü\n"])
PATHS = st.lists(NAMES, min_size=1, max_size=3).map("/".join)
TREES = st.lists(
    st.tuples(PATHS, st.sampled_from(["folder", "file", "link", "out", "hard", "pipe", "closed"])), max_size=12
)


@pytest.fixture
def outside(tmp_path: Path) -> Path:
    if os.geteuid() != 0:
        pytest.fail("must be root") if os.environ.get("CI") else pytest.skip("must be root")
    for name in ("etc", "var/lib", "home"):
        (tmp_path / "root" / name).mkdir(parents=True)
    (tmp_path / "root/var/lib/verrou").mkdir(mode=0o700)
    (tmp_path / "root/etc/shadow").write_text("root:*:1::::::\n")
    return tmp_path / "root"


def grow(home: Path, tree: list[tuple[str, str]]) -> None:
    """Whatever of the tree the file system takes."""
    shutil.rmtree(home, ignore_errors=True)
    home.mkdir(mode=0o700)
    for name, kind in tree:
        path = home / name
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            if os.path.lexists(path):
                continue
            match kind:
                case "folder":
                    path.mkdir()
                case "file":
                    path.write_text(name)
                case "link":
                    path.symlink_to("a")
                case "out":
                    path.symlink_to("/etc")
                case "hard":
                    path.hardlink_to(home.parent.parent / "etc/shadow")
                case "pipe":
                    os.mkfifo(path)
                case "closed":
                    path.write_text(name)
                    path.chmod(0o4000)
        except OSError:
            continue
    for folder, folders, names in os.walk(home):
        for each in ("", *folders, *names):
            os.lchown(Path(folder, each), UID, UID)
    os.chown(home.parent.parent / "etc/shadow", 0, 0)


def look(folder: Path) -> dict[str, tuple[object, ...]]:
    """Everything in a folder: kind and mode, owner, content."""
    found: dict[str, tuple[object, ...]] = {}
    for here, folders, names in os.walk(folder):
        for name in ("", *folders, *names):
            path = Path(here, name)
            now = path.lstat()
            content: object = None
            if stat.S_ISLNK(now.st_mode):
                content = os.readlink(path)
            elif stat.S_ISREG(now.st_mode):
                content = path.read_bytes()
            found[str(path.relative_to(folder))] = (now.st_mode, now.st_uid, content)
    return found


@given(tree=TREES)
def test_an_archive_holds_the_home_and_gives_it_back(outside: Path, tree: list[tuple[str, str]]) -> None:
    grow(outside / "home/tern", tree)
    root = Root(outside)
    inside, others = look(outside / "home/tern"), look(outside / "etc")
    pipes = {name for name, (mode, _, _) in inside.items() if stat.S_ISFIFO(int(str(mode)))}
    found = files_of(root, "tern", UID, "/home/tern", everywhere=True)
    assert found.count == sum(not stat.S_ISDIR(int(str(mode))) for mode, _, _ in inside.values())
    assert found.elsewhere_count == 0
    landing = Applier(root)
    Home(root, "/home/tern", UID).check({})
    landing.apply(ARCHIVING, 1)
    assert look(outside / "home/tern") == inside, "an archive takes nothing away"
    landing.apply(TAKING, 1)
    assert not (outside / "home/tern").exists() and landing.stands(TAKING, 1) is PlaceState.AFTER
    landing.clean_up([ARCHIVING, TAKING], 1)
    assert os.listdir(outside / "home") == [] and look(outside / "etc") == others
    landing.apply(BRINGING, 2)
    assert look(outside / "home/tern") == {name: what for name, what in inside.items() if name not in pipes}
    shutil.rmtree(outside / "var/lib/verrou")
    (outside / "var/lib/verrou").mkdir(mode=0o700)


@pytest.mark.parametrize("work", ["files", "delete", "archive"])
def test_a_folder_that_becomes_a_link_meanwhile_leads_nowhere(
    outside: Path, monkeypatch: pytest.MonkeyPatch, work: str
) -> None:
    """Its owner swaps a folder for a link to /etc between the listing and the opening."""
    grow(outside / "home/tern", [("a/b", "file")])
    others = look(outside / "etc")
    listing = os.scandir

    class Swapped:
        def __init__(self, folder: Any) -> None:
            self.entries = list(listing(folder))

        def __enter__(self) -> Iterator[Any]:
            if any(entry.name == "a" for entry in self.entries):
                shutil.rmtree(outside / "home/tern/a")
                (outside / "home/tern/a").symlink_to(outside / "etc")
            return iter(self.entries)

        def __exit__(self, *_: object) -> None:
            pass

    monkeypatch.setattr(homes.os, "scandir", Swapped)
    landing = Applier(Root(outside))
    with pytest.raises(OSError):
        if work == "files":
            Home(Root(outside), "/home/tern", UID).files()
        elif work == "archive":
            landing.apply(ARCHIVING, 1)
        else:
            landing.apply(TAKING, 1)
            landing.clean_up([TAKING], 1)
    monkeypatch.undo()
    assert look(outside / "etc") == others
    assert landing.stands(ARCHIVING, 1) is PlaceState.BEFORE, "half an archive does not stand under its name"


def test_an_archive_that_someone_changed_is_not_unpacked(outside: Path) -> None:
    grow(outside / "home/tern", [("a", "file")])
    landing = Applier(Root(outside))
    for operation in (ARCHIVING, TAKING):
        landing.apply(operation, 1)
    landing.clean_up([TAKING], 1)
    archive = outside / ARCHIVE.lstrip("/")
    archive.write_bytes(archive.read_bytes() + b"\0")
    with pytest.raises(MachineRefused, match="checksum differs"):
        landing.apply(BRINGING, 2)
    assert not (outside / "home/tern").exists()


def test_no_link_of_a_disk_leads_out_of_it(outside: Path, tmp_path: Path) -> None:
    """A mounted root whose /home is an absolute link: what is done to homes stays inside."""
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()
    shutil.rmtree(outside / "home")
    (outside / "home").symlink_to(elsewhere)
    inner = outside / str(elsewhere).lstrip("/")
    inner.mkdir(parents=True)
    root = Root(outside)
    (operation,) = making(root, "/home/tern", UID, UID, kept=True, defs={})
    assert isinstance(operation, MakeHome) and operation.place == f"{elsewhere}/tern"
    landing = Applier(root)
    landing.apply(operation, 1)
    for each in (ARCHIVING, TAKING, BRINGING):
        landing.apply(evolve(each, place=operation.place), 1)
    assert os.listdir(elsewhere) == [] and (inner / "tern").is_dir()


def test_a_skeleton_of_odd_things_makes_a_home(outside: Path) -> None:
    """Links are copied as links, pipes are left out, a mode that is none counts for nothing, and a new home is known
    again as long as nobody used it."""
    skeleton = outside / "etc/skel"
    (skeleton / "deep").mkdir(parents=True)
    (skeleton / "deep/.profile").write_text("# hello")
    (skeleton / "link").symlink_to("/etc/shadow")
    os.mkfifo(skeleton / "pipe")
    defs = {"HOME_MODE": ("99z", Source("/etc/login.defs", 1))}
    (operation,) = making(Root(outside), "/home/gull", UID, UID, kept=True, defs=defs)
    assert isinstance(operation, MakeHome)
    Applier(Root(outside)).apply(operation, 1)
    made = look(outside / "home/gull")
    assert set(made) == {".", "deep", "deep/.profile", "link"}
    assert made["."][:2] == (0o40700, UID) and made["link"][2] == "/etc/shadow"
    assert is_as_made(Root(outside), operation)
    (outside / "home/gull/deep/.profile").write_text("# mine")
    assert not is_as_made(Root(outside), operation)


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("/", "is a folder of the system"),
        ("/home", "is a folder of the system"),
        ("/etc/ssh", "is a folder of the system"),
        ("/home/tern/../skua", "a folder above it"),
        ("/home/link", "is a link to /etc"),
        ("/home/file", "is not a folder"),
        ("/home/skua", "belongs to another account"),
        ("/home/tern", "lodger has its home in /home/tern/attic"),
    ],
)
def test_what_is_no_home_of_this_account(outside: Path, name: str, words: str) -> None:
    for folder in ("home/skua", "home/tern", "etc/ssh"):
        (outside / folder).mkdir()
    os.chown(outside / "home/tern", UID, UID)
    (outside / "home/link").symlink_to("/etc")
    (outside / "home/file").write_text("")
    with pytest.raises(NoHome, match=words):
        Home(Root(outside), name, UID).check({"/home/tern/attic": "lodger", "/home/other": "other"})


def test_files_are_found_on_every_disk_below_the_root(outside: Path) -> None:
    (outside / "srv").mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "tmpfs", str(outside / "srv")], check=True)
    try:
        (outside / "srv/rota").write_text("")
        os.chown(outside / "srv/rota", UID, UID)
        assert files_of(Root(outside), "tern", UID, "", everywhere=True).elsewhere == ("/srv/rota",)
    finally:
        subprocess.run(["umount", str(outside / "srv")], check=True)


def test_files_elsewhere_are_counted_and_the_first_are_named(outside: Path) -> None:
    (outside / "var/mail").mkdir()
    (outside / "srv").mkdir()
    for number in range(30):
        (outside / f"srv/rota{number:02}").write_text("")
        os.chown(outside / f"srv/rota{number:02}", UID, UID)
    (outside / "var/mail/tern").write_text("news")
    os.chown(outside / "var/mail/tern", UID, UID)
    usual = files_of(Root(outside), "tern", UID, "/home/tern", everywhere=False)
    assert (usual.elsewhere, usual.elsewhere_count) == (("/var/mail/tern",), 1)
    all_over = files_of(Root(outside), "tern", UID, "", everywhere=True)
    assert all_over.elsewhere_count == 31 and len(all_over.elsewhere) == 20
    assert "31 elsewhere: /srv/rota00, /srv/rota01, /srv/rota02, /srv/rota03 and 16 more" in str(all_over)


def test_a_folder_that_is_moved_while_it_is_looked_through_is_reported(tmp_path: Path) -> None:
    (tmp_path / "home/nest/egg").mkdir(parents=True)
    (tmp_path / "away").mkdir()
    top = os.open(tmp_path / "home", FOLDER_FLAGS)
    with pytest.raises(OSError, match="moved while it was looked through"):
        for _, below, _, _ in walk_open(top, "", os.fstat(top).st_dev):
            if below == "nest/egg":
                (tmp_path / "home/nest/egg").rename(tmp_path / "away/egg")
    os.close(top)
