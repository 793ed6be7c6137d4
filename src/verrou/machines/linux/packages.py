"""Package names for a missing program or module, by distribution: os-release(5)."""

from collections.abc import Mapping

from verrou.machines.linux.pam.stack import FOLDERS
from verrou.machines.linux.root import Root

OS_RELEASE = ("/etc/os-release", "/usr/lib/os-release")
DEBIAN, FEDORA, SUSE, ARCH, ALPINE = "debian", "fedora", "suse", "arch", "alpine"
KIN: Mapping[str, str] = {
    "debian": DEBIAN,
    "ubuntu": DEBIAN,
    "fedora": FEDORA,
    "rhel": FEDORA,
    "centos": FEDORA,
    "suse": SUSE,
    "opensuse": SUSE,
    "sles": SUSE,
    "arch": ARCH,
    "alpine": ALPINE,
}
"""Distribution by ID and ID_LIKE of os-release."""
MODULES = "the modules of PAM"
PACKAGES: Mapping[str, Mapping[str, str]] = {
    MODULES: {DEBIAN: "libpam-modules", FEDORA: "pam", SUSE: "pam", ARCH: "pam", ALPINE: "linux-pam"},
    "pam_pwquality.so": {
        DEBIAN: "libpam-pwquality",
        FEDORA: "libpwquality",
        SUSE: "pam_pwquality",
        ARCH: "libpwquality",
        ALPINE: "libpwquality",
    },
    "polkit": {DEBIAN: "polkitd", FEDORA: "polkit", SUSE: "polkit", ARCH: "polkit", ALPINE: "polkit"},
    "the dictionaries of cracklib": {
        DEBIAN: "cracklib-runtime and wamerican",
        FEDORA: "cracklib-dicts",
        SUSE: "cracklib-dict-full",
        ARCH: "cracklib",
        ALPINE: "cracklib-words",
    },
}
"""Package by missing program or module; sudo and udisks2 have these names everywhere."""


def distribution(root: Root) -> str:
    """Return the distribution whose package names apply; empty where it is not known."""
    file = next((each for each in OS_RELEASE if root.exists(each)), OS_RELEASE[0])
    values = dict(line.split("=", 1) for line in root.lines(file) if "=" in line)
    names = [word for key in ("ID", "ID_LIKE") for word in values.get(key, "").strip("\"'").lower().split()]
    return next((KIN[first] for name in names if (first := name.partition("-")[0]) in KIN), "")


def to_install(root: Root, missing: str) -> str:
    """Return what to install for something that is missing."""
    by_kin = PACKAGES.get(missing, {})
    name = by_kin.get(distribution(root), "") if by_kin else missing
    if not name:
        return f"install the package that brings {missing}"
    return f"install the package{'s' if ' and ' in name else ''} {name}"


def asks_pam(root: Root) -> bool:
    """Return whether any program asks PAM: a system without any service file has none that does."""
    return any(root.names_in(folder) for folder in FOLDERS)


def without_module(root: Root, module: str) -> tuple[str, str]:
    """Return why a PAM module rejects nothing here, and what would help."""
    if not asks_pam(root):
        return f"no program here uses PAM, and {module} would enforce it", ""
    return f"{module} is not installed", to_install(root, module if module in PACKAGES else MODULES)
