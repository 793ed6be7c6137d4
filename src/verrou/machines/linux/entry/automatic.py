"""Automatic sign-in at a console by what the system starts.

Sources: agetty(8), login(1), shells, units with a session of their own, inittab(5), rescue shells, and the kernel's
command line."""

import re
import shlex
from collections.abc import Iterator, Sequence

from attrs import evolve, frozen

from verrou.core.model import Source
from verrou.machines.linux.accounts.background_jobs import CRONTABS, MOST_READ, system_cron_files
from verrou.machines.linux.entry.units import Unit, folders_of, started_units
from verrou.machines.linux.files.account_files import PASSWD, AccountFile, PasswdField
from verrou.machines.linux.files.keyfile import KeyfileEntry
from verrou.machines.linux.root import Root

TELLING = ("getty", "login", "PAMName", "TTYPath", "StandardInput=tty", "debug-shell", "SULOGIN", "TTYReset")
GETTIES = ("agetty", "getty", "mingetty", "fgetty", "mgetty")
SHELLS = ("sh", "bash", "dash", "zsh", "fish", "ksh", "busybox", "tmux", "screen", "startx", "xinit", "cage", "sway")
AGETTY_VALUES = "aCfHIlortdP"
"""The short options of agetty(8) that take a value."""
LONG_VALUES = (
    *("autologin", "issue-file", "host", "init-string", "login-program", "login-options", "chroot", "timeout"),
    *("chdir", "delay", "nice", "erase-chars", "kill-chars"),
)
INITTAB, RC_LOCAL, FSTAB = "/etc/inittab", "/etc/rc.local", "/etc/fstab"
_AT_A_TERMINAL = re.compile(
    rf"<\s*/dev/(tty\d|console)|(?<![\w-])(openvt|startx|xinit|login|{'|'.join(GETTIES)})(?![\w-])"
)


@frozen(repr=False)
class Automatic:
    """An account that is signed in automatically; ``""`` for no account in particular.

    ``service`` is the PAM service asked about the account, if any. ``anybody``: typing a name signs in as that account.
    Not ``known``: it may sign someone in or not."""

    account: str
    statement: str
    source: Source
    service: str
    anybody: bool = False
    known: bool = True


def signed_in_at_start(root: Root) -> Iterator[Automatic]:
    """Yield the accounts that units and inittab sign in, each with its line."""
    for unit in started_units(root, TELLING):
        yield from (_by_name(root, unit, each) for each in _by_unit(unit))
    if not any(root.exists(f"{folder}/getty@.service") for folder in folders_of(root)):
        yield from _by_inittab(root)
    yield from _by_kernel(root)
    yield from _by_scripts(root)


def _by_name(root: Root, unit: Unit, each: Automatic) -> Automatic:
    """Return the accounts by name: systemd.exec(5) accepts a number too, and expands what follows ``%``."""
    instance = unit.name.partition("@")[2].removesuffix(".service")
    name = re.sub(r"%[iI]", instance, each.account) if instance else each.account
    if name.isascii() and name.isdigit():
        records = AccountFile.parse(PASSWD, root.text(PASSWD) or "").records()
        name = next((each.name for each in records if each.fields[PasswdField.UID] == name), name)
    if "%" in name:
        return evolve(
            each, account="", statement=f"{each.statement} as {name}, and who that is is not known", known=False
        )
    return evolve(each, account=name)


def _by_unit(unit: Unit) -> Iterator[Automatic]:
    user, pam = unit.value("User"), unit.value("PAMName")
    at_a_terminal = unit.value("TTYPath") or _is_terminal(unit.value("StandardInput"))
    name = unit.name.removesuffix(".service")
    forced = next((e for e in unit.lines if e.key == "Environment" and "SYSTEMD_SULOGIN_FORCE=1" in e.value), None)
    if forced is not None:
        yield _repaired(name, forced.source)
        return
    for command in unit.commands():
        words = _words(command.value)
        program = words[0].rpartition("/")[2] if words else ""
        if program in GETTIES or program == "login":
            yield from _by_command(words, f"the text console {name}", command.source)
        elif program == "sulogin" and _asks_nobody(words):
            yield _repaired(name, command.source)
        elif at_a_terminal and program != "sulogin" and not program.startswith("systemd-"):
            who, service = user.value if user is not None else "root", pam.value if pam else ""
            source = (user or command).source
            if pam or program in SHELLS:
                yield Automatic(who, f"{name} begins a session of it", source, service)
            else:
                statement = f"{name} starts {program or 'a program'} at a console; what users can do there is not known"
                yield Automatic(who, statement, source, service, known=False)


def _repaired(name: str, source: Source) -> Automatic:
    return Automatic("root", f"{name} begins a shell of root without a password", source, "")


def _asks_nobody(words: Sequence[str]) -> bool:
    """Return whether sulogin(8) starts a shell without a prompt: root has no usable password."""
    return any(word == "--force" or re.fullmatch(r"-[a-z]*e[a-z]*", word) for word in words[1:])


def _is_terminal(entry: KeyfileEntry | None) -> bool:
    return entry is not None and entry.value.startswith("tty")


def _words(command: str) -> list[str]:
    """Return program and arguments, without the prefixes that systemd.service(5) allows."""
    try:
        words = shlex.split(command)
    except ValueError:
        words = command.split()
    if words:
        signs = words[0][: len(words[0]) - len(words[0].lstrip("@-:+!|"))]
        words[0] = words[0].lstrip("@-:+!|")
        if "@" in signs:
            del words[1:2]
    return words


def _by_command(words: Sequence[str], where: str, source: Source) -> Iterator[Automatic]:
    """Yield the accounts that a command signs in without asking for a name or a password."""
    if words[0].rpartition("/")[2] == "login":
        yield from _by_login(list(words[1:]), where, source, typed=False)
        return
    options = _options(words[1:])
    automatic = options.get("a", options.get("autologin", ""))
    program = options.get("l", options.get("login-program", "/bin/login"))
    given = options.get("o", options.get("login-options"))
    skips = "n" in options or "skip-login" in options
    if program.rpartition("/")[2] != "login":
        if skips or automatic:
            statement = f"{where} begins {program} without a password"
            yield Automatic("root", statement, source, "")
        return
    if given is None:
        if automatic:
            yield Automatic(automatic, f"{where} signs it in at each start", source, "login")
        return
    try:
        arguments = shlex.split(given.replace("\\\\u", "\\u").replace("\\u", "\0"))
    except ValueError:
        arguments = given.split()
    named = [word.replace("\0", automatic) if automatic else word for word in arguments]
    yield from _by_login(named, where, source, typed=not automatic)


def _by_login(arguments: list[str], where: str, source: Source, *, typed: bool) -> Iterator[Automatic]:
    """Yield the accounts of login(1): with -f there is no password prompt."""
    trusted, names = False, []
    while arguments:
        word = arguments.pop(0)
        if word == "--":
            names += arguments
            break
        if word in ("-h", "-H", "-r"):
            arguments = arguments[1:]
        elif word.startswith("-") and "f" in word:
            trusted = True
            names += [word.partition("f")[2]] if word.partition("f")[2] else []
        elif not word.startswith("-"):
            names.append(word)
    if not trusted:
        return
    if typed and (not names or names[-1] == "\0"):
        yield Automatic("", f"{where} signs in anyone who types a name", source, "login", anybody=True)
    elif names:
        yield Automatic(names[-1], f"{where} signs it in without a password", source, "login")


def _options(words: Sequence[str]) -> dict[str, str]:
    """Return the options of agetty(8) by their letter or long name, each with its value.

    A value that is missing is empty."""
    found: dict[str, str] = {}
    rest = list(words)
    while rest:
        word = rest.pop(0)
        if word.startswith("--"):
            key, equals, value = word[2:].partition("=")
            whole = next((each for each in LONG_VALUES if key and each.startswith(key)), "")
            if whole:
                found[whole] = value if equals else (rest.pop(0) if rest else "")
            else:
                found["skip-login" if key and "skip-login".startswith(key) else key] = value
            continue
        letters = word[1:] if word.startswith("-") else ""
        while letters:
            letter, letters = letters[0], letters[1:]
            if letter in AGETTY_VALUES:
                found[letter] = letters or (rest.pop(0) if rest else "")
                letters = ""
            else:
                found[letter] = ""
    return found


def _by_inittab(root: Root) -> Iterator[Automatic]:
    for number, line in enumerate(root.lines(INITTAB), start=1):
        fields = line.strip().split(":", 3)
        if line.lstrip().startswith("#") or len(fields) < 4 or fields[2] == "off":
            continue
        words = _words(fields[3])
        source = Source(INITTAB, number, fields[3])
        program = words[0].rpartition("/")[2] if words else ""
        if program in GETTIES or program == "login":
            yield from _by_command(words, "a text console", source)
        elif program in SHELLS or (program == "sulogin" and _asks_nobody(words)):
            yield Automatic("root", f"a text console begins {words[0]} without a password", source, "")


RUNNING_KERNEL, KERNEL_FILE = "/proc/cmdline", "/etc/kernel/cmdline"
BOOT_ENTRIES, MENUS = "/boot/loader/entries", ("/boot/grub/grub.cfg", "/boot/grub2/grub.cfg")
FIRST_PROGRAMS = ("init", "systemd", "openrc-init", "runit-init", "s6-svscan", "finit")
DEBUG_SHELL = ("systemd.debug_shell", "systemd.debug-shell")


def _kernel_lines(root: Root) -> Iterator[tuple[str, Source]]:
    """Yield the kernel's command line of now, and that of the next start."""
    if root.live:
        yield from ((line, Source(RUNNING_KERNEL, 1)) for line in root.lines(RUNNING_KERNEL)[:1])
    yield from ((line, Source(KERNEL_FILE, number)) for number, line in enumerate(root.lines(KERNEL_FILE), start=1))
    files = [f"{BOOT_ENTRIES}/{name}" for name in root.files_in(BOOT_ENTRIES) if name.endswith(".conf")]
    for file in (*files, *MENUS):
        for number, line in enumerate(root.lines(file), start=1):
            if re.match(r"\s*(options|linux\w*)\s", line):
                yield line, Source(file, number)


def _by_kernel(root: Root) -> Iterator[Automatic]:
    """Yield root shells at a console, or another first program, by kernel-command-line(7)."""
    found: dict[tuple[str, bool], Source] = {}
    for line, source in _kernel_lines(root):
        for word in line.split():
            key, equals, value = word.partition("=")
            name = value.rpartition("/")[2]
            if key in DEBUG_SHELL and value.lower() not in ("0", "no", "false", "off", "n", "f"):
                found.setdefault((f"{word}: a root shell runs at a console", True), source)
            elif key == "break" or (key == "rd.break" and root.exists("/usr/lib/dracut")):
                found.setdefault((f"{word}: the start stops at a shell of root", key == "break"), source)
            elif word == "systemd.setenv=SYSTEMD_SULOGIN_FORCE=1":
                found.setdefault((f"{word}: a system that is repaired begins a shell of root", True), source)
            elif key in ("init", "rdinit") and equals and name in SHELLS:
                found.setdefault((f"{word}: the system is a shell of root", True), source)
            elif key == "init" and equals and name not in FIRST_PROGRAMS:
                found.setdefault((f"{word}: what users can do there is not known", False), source)
    for (statement, known), source in found.items():
        yield Automatic("root", statement, source, "", known=known)
    mounts = (line.partition("#")[0].split() for line in root.lines(FSTAB))
    mount = next((number for number, words in enumerate(mounts, start=1) if words[1:2] == ["/boot"]), None)
    if mount is not None and not root.live and not root.names_in("/boot"):
        statement = "/boot is a separate file system and is not mounted here, so the kernel's command line is not known"
        yield Automatic("root", statement, Source(FSTAB, mount), "", known=False)


def _by_scripts(root: Root) -> Iterator[Automatic]:
    """Yield commands run at each start that read from a terminal or begin a session.

    They are in /etc/rc.local, where it is executable, see systemd-rc-local-generator(8), and in lines of crontab(5)
    with ``@reboot``."""
    scripts = [RC_LOCAL] if root.may_be_run(RC_LOCAL) else []
    tables = [*system_cron_files(root), *(f"{folder}/root" for folder in CRONTABS)]
    for file in (*scripts, *tables):
        for number, line in enumerate(root.content(file, MOST_READ).decode(errors="replace").split("\n"), start=1):
            command = line.strip()
            if (file in scripts or command.startswith("@reboot")) and _AT_A_TERMINAL.search(command.partition("#")[0]):
                statement = "run at each start, it starts a program at a terminal; what users can do there is not known"
                yield Automatic("root", statement, Source(file, number, command), "", known=False)
