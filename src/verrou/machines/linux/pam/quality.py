"""libpwquality on this system: pwquality.conf(5), drop-ins and module arguments."""

from attrs import define, evolve, field

from verrou.core.model import Source
from verrou.machines.linux.files.account_files import number
from verrou.machines.linux.files.settings_files import settings
from verrou.machines.linux.pam.faillock import Decided, module_installed
from verrou.machines.linux.pam.stack import PamLine
from verrou.machines.linux.root import Root

PWQUALITY = "pam_pwquality.so"
PWQUALITY_CONF = "/etc/security/pwquality.conf"
PWQUALITY_FOLDER = "/etc/security/pwquality.conf.d"
DICTIONARY = "/var/cache/cracklib/cracklib_dict.pwd"
NUMBER_KEYS = (
    "difok",
    "minlen",
    "dcredit",
    "ucredit",
    "lcredit",
    "ocredit",
    "minclass",
    "maxrepeat",
    "maxclassrepeat",
    "maxsequence",
    "gecoscheck",
    "dictcheck",
    "usercheck",
    "usersubstr",
    "enforcing",
    "retry",
)
TEXT_KEYS = ("badwords", "dictpath")
FLAG_KEYS = ("enforce_for_root", "local_users_only")
CREDITS = ("dcredit", "ucredit", "lcredit", "ocredit")
SHIPPED = {"minlen": 8, "minclass": 0, "usercheck": 1, "dictcheck": 1, "enforcing": 1, **dict.fromkeys(CREDITS, 0)}


@define(repr=False)
class Quality:
    """The settings that libpwquality ends up with, and the line at which it stopped reading, if any."""

    decided: dict[str, Decided] = field(factory=dict)
    stopped_at: Source | None = None

    def number(self, key: str) -> int:
        """Return the effective number: minlen is never below 6 nor minclass above 4."""
        value = number(self.decided[key].value) if key in self.decided else SHIPPED[key]
        value = SHIPPED[key] if value is None else value
        return max(6, value) if key == "minlen" else min(4, value) if key == "minclass" else value


def quality_settings(root: Root, line: PamLine | None) -> Quality:
    """Return the settings of pwquality.conf(5) as the library reads them, then the module's arguments.

    Drop-ins come in order of their names, then the main file, and nothing after a line that it does not understand."""
    quality = Quality()
    files = [f"{PWQUALITY_FOLDER}/{n}" for n in root.files_in(PWQUALITY_FOLDER) if n.endswith(".conf")]
    for file in [*files, PWQUALITY_CONF]:
        for setting in settings(file, root.lines(file)):
            key = setting.key.lower()
            source = Source(file, setting.line, f"{setting.key} = {setting.value}".removesuffix(" = "))
            if not _understood(key, setting.value):
                quality.stopped_at = source
                return _with_arguments(quality, line)
            _decide(quality, key, setting.value, source)
    return _with_arguments(quality, line)


def _with_arguments(quality: Quality, line: PamLine | None) -> Quality:
    for argument in line.arguments if line else ():
        key, _, value = argument.partition("=")
        if line and key in (*NUMBER_KEYS, *FLAG_KEYS) and _understood(key, value):
            _decide(quality, key, value, line.source)
            quality.decided[key] = evolve(quality.decided[key], by_argument=True)
    return quality


def _decide(quality: Quality, key: str, value: str, source: Source) -> None:
    earlier = quality.decided.get(key)
    overrides = (*earlier.overrides, earlier.source) if earlier else ()
    quality.decided[key] = Decided(value, source, overrides)


def _understood(key: str, value: str) -> bool:
    if key in NUMBER_KEYS:
        return number(value) is not None
    return key in TEXT_KEYS or key in FLAG_KEYS


def dictionary_missing(root: Root) -> bool:
    """Return whether the module has no dictionary, so that it rejects every password."""
    return module_installed(root, PWQUALITY) and not root.exists(DICTIONARY)
