"""Guests on a Linux system: a group that can sign in at the console only, and temporary homes.

pam_access(8) denies the group by a file of Verrou's own, so that unused rules in access.conf(5) do not take effect.
Homes come from pam_namespace(8): each session gets an empty one in memory. Both modules are added to the stack as
profiles of the system's own mechanism."""

from collections.abc import Callable

from verrou.machines.linux.entry.routes import NAMESPACE, NAMESPACE_FOLDER, fresh_homes
from verrou.machines.linux.files.access_file import ACCESS, ACCESS_FOLDER, confined_groups
from verrou.machines.linux.packages import without_module
from verrou.machines.linux.pam.faillock import module_installed
from verrou.machines.linux.pam.profiles import EDITED_BY_HAND, add_profiles
from verrou.machines.linux.pam.stack import load_stack
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root

ACCESS_FILE = f"{ACCESS_FOLDER}/50-verrou.conf"
NAMESPACE_FILE = f"{NAMESPACE_FOLDER}/50-verrou.conf"
ACCESS_PROFILE, NAMESPACE_PROFILE = "verrou-ways-in", "verrou-fresh-homes"
PROFILE_TEXTS = {
    ACCESS_PROFILE: f"""\
Name: Verrou: who can sign in by which route
Default: yes
Priority: 128
Account-Type: Additional
Account:
	required	{ACCESS} accessfile={ACCESS_FILE}
""",
    NAMESPACE_PROFILE: f"""\
Name: Verrou: homes that nothing stays in
Default: yes
Priority: 128
Session-Type: Additional
Session-Interactive-Only: yes
Session:
	required	{NAMESPACE}
""",
}
SEATS = (*(f"tty{n}" for n in range(1, 13)), ":0", ":1", "login", "lightdm", "gdm-password", "sddm")
"""PAM's names for places at the machine: terminals, displays, and services that ask there without a terminal."""


def confine(root: Root, group: str) -> str:
    """Allow the members of a group to sign in at the console only.

    Raises: StepRejected: the module cannot be added to the stack."""
    if not module_installed(root, ACCESS):
        raise StepRejected("; ".join(filter(None, without_module(root, ACCESS))))
    lines = [line for line in root.lines(ACCESS_FILE) if f":({group}):" not in line]
    lines += [f"+:({group}):{' '.join(SEATS)}", f"-:({group}):ALL"]
    root.write(ACCESS_FILE, "\n".join(lines) + "\n")
    _into_stack(root, ACCESS_PROFILE)
    if group not in confined_groups(root, {group}):
        raise StepRejected(f"{ACCESS} does not restrict {group} to the console; {EDITED_BY_HAND}")
    return f"{ACCESS_FILE} restricts its members to the console"


def freshen(root: Root, name: str, home: str) -> str:
    """Give an account an empty home in memory for each session. Raises: StepRejected: the module cannot be added to
    the stack."""
    if not module_installed(root, NAMESPACE):
        raise StepRejected("; ".join(filter(None, without_module(root, NAMESPACE))))
    lines = [line for line in root.lines(NAMESPACE_FILE) if line.split()[:1] != [home]]
    lines.append(f"{home} tmpfs tmpfs:mntopts=nosuid,nodev ~{name}")
    root.write(NAMESPACE_FILE, "\n".join(lines) + "\n")
    _into_stack(root, NAMESPACE_PROFILE)
    if not fresh_homes(root)(name, home):
        raise StepRejected(f"{NAMESPACE} is not added to the session stack; {EDITED_BY_HAND}")
    return "each session gets an empty home, and nothing of it stays"


def forget_group(root: Root, group: str) -> None:
    """Remove a group from the file that restricts it to the console."""
    _without(root, ACCESS_FILE, lambda line: f":({group}):" in line)


def forget_home(root: Root, home: str) -> None:
    """Remove a home from the file that makes it temporary."""
    _without(root, NAMESPACE_FILE, lambda line: line.split()[:1] == [home])


def rename_guest(root: Root, name: str, new_name: str) -> None:
    """Keep an account's home temporary under its new name."""
    lines = root.lines(NAMESPACE_FILE)
    changed = [f"{line.removesuffix(f'~{name}')}~{new_name}" if line.endswith(f" ~{name}") else line for line in lines]
    if changed != lines:
        root.write(NAMESPACE_FILE, "\n".join(changed) + "\n")


def _without(root: Root, file: str, goes: Callable[[str], bool]) -> None:
    lines = root.lines(file)
    left = [line for line in lines if not goes(line)]
    if left != lines:
        root.write(file, "".join(f"{line}\n" for line in left))


def _into_stack(root: Root, profile: str) -> None:
    facility, module = ("account", ACCESS) if profile == ACCESS_PROFILE else ("session", NAMESPACE)
    if any(_reads_ours(line.arguments) for line in load_stack(root, "login", facility).having(module)):
        return
    add_profiles(root, {profile: PROFILE_TEXTS[profile]})


def _reads_ours(arguments: tuple[str, ...]) -> bool:
    """Return whether a line of the stack reads the file that Verrou writes, be it ours or another's."""
    named = [argument for argument in arguments if argument.startswith("accessfile=")]
    return not named or named == [f"accessfile={ACCESS_FILE}"]
