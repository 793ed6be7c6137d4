"""Sign-in notice of a Linux system: at the console, by the remote shell, on gdm's screen."""

from collections.abc import Iterator, Mapping

from attrs import evolve

from verrou.core.model import Effect, Reading, Source, program_default
from verrou.core.rules.screen import RULES
from verrou.core.values import Notice, Value
from verrou.machines.linux.entry.display_managers import gdm_screen, in_use, put_on_gdm_screen
from verrou.machines.linux.files.sshd import SSHD_CONFIG, set_keyword, sshd_installed, sshd_setting
from verrou.machines.linux.refused import StepRejected
from verrou.machines.linux.root import Root
from verrou.machines.linux.rules.adapter import LinuxRuleAdapter, System, when_sshd_is_told

KIND = next(rule.kind for rule in RULES if rule.id == "screen.notice")
ISSUE, ISSUE_FOLDER, ISSUE_NET = "/etc/issue", "/etc/issue.d", "/etc/issue.net"


def issue_text(root: Root) -> tuple[str, Source]:
    """Return what agetty(8) shows: the issue file, then the files of its folder.

    Without /etc/issue, those of this start in /run, or the vendor's where these are empty (measured, 2.38)."""
    for top in ("/etc",) if root.exists(ISSUE) else ("/run", "/usr/lib") if root.live else ("/usr/lib",):
        files = [f"{top}/issue", *root.files_matching(f"{top}/issue.d/*.issue")]
        if shown := {file: text for file in files if root.exists(file) and (text := root.text(file))}:
            return "\n".join(shown.values()), Source(next(iter(shown)), 1)
    return "", Source(ISSUE, 1)


def _notices(root: Root) -> Iterator[tuple[str, Reading]]:
    text, source = issue_text(root)
    yield "console", Reading(as_notice(text), source=source)
    if sshd_installed(root):
        banner, where = _banner(root)
        banner_text = (root.text(banner) or "") if banner and root.exists(banner) else ""
        yield "remote-shell", Reading(as_notice(banner_text), source=where or program_default("Banner none"))
    if "gdm3" in in_use(root):
        enabled, message = gdm_screen(root, "banner-message-enable"), gdm_screen(root, "banner-message-text")
        shown = enabled is not None and enabled[0] == "true" and message is not None
        banner_text = message[0].replace("\\n", "\n") if shown and message is not None else ""
        yield "gdm3", Reading(as_notice(banner_text), source=message[1] if message else program_default())


def _banner(root: Root) -> tuple[str, Source | None]:
    """Return the file whose text the remote shell server shows; its name keeps its case."""
    lowered, where = sshd_setting(root, "banner", "none")
    if lowered == "none" or where is None:
        return "", where
    return where.text.split(None, 1)[-1].strip("\"'"), where


def as_notice(text: str) -> Notice:
    """Return a text as a notice; a title is a first line with a blank one after it."""
    first, _, rest = text.strip().partition("\n\n")
    clean = "".join(c for c in text if c.isprintable() or c == "\n").strip()
    if rest and "\n" not in first:
        title, _, below = clean.partition("\n\n")
        return Notice(title.strip(), below.strip())
    return Notice("", clean)


def _read_notice(system: System) -> Reading:
    found = list(_notices(system.root))
    first = found[0][1]
    different = [(by, each) for by, each in found[1:] if not KIND.same(each.value or Notice(), first.value or Notice())]
    if not different:
        return first
    by, other = different[0]
    assert isinstance(other.value, Notice)
    shown = KIND.format(other.value) if other.value.words else "nothing"
    overrides = (first.source,) if first.source is not None else ()
    return evolve(
        other,
        reason=f"{by} shows {shown}; the console shows {KIND.format(first.value or Notice())}",
        overrides=overrides,
    )


def _put_notice(root: Root, value: Value) -> str:
    assert isinstance(value, Notice)
    text = "\n\n".join(filter(None, (value.title, value.text)))
    text = f"{text}\n" if text else ""
    # agetty(8) replaces a backslash and a letter.
    root.write(ISSUE, text.replace("\\", "\\\\"))
    notes = [ISSUE]
    if others := root.files_matching(f"{ISSUE_FOLDER}/*.issue"):
        raise StepRejected(f"{others[0]} is shown after it. Remove that file first")
    if sshd_installed(root):
        banner, _ = _banner(root)
        file = banner if banner.startswith("/etc/") else ISSUE_NET
        root.write(file, text)
        if banner != file:
            set_keyword(root, "Banner", file)
        notes.append(file)
    if "gdm3" in in_use(root):
        put_on_gdm_screen(root, "banner-message-enable", "true" if text else "false")
        put_on_gdm_screen(root, "banner-message-text", f"'{text.strip()}'".replace("\n", "\\n"))
    return f"written to {' and '.join(notes)}"


def _counts(system: System) -> Effect:
    """Return the effect: a text console shows it at its next prompt, gdm after its next start."""
    if "gdm3" in in_use(system.root):
        return Effect.RESTART
    return max(Effect.NEXT_SIGN_IN, when_sshd_is_told(system), key=list(Effect).index)


ADAPTERS: Mapping[str, LinuxRuleAdapter] = {
    "screen.notice": LinuxRuleAdapter(
        f"{ISSUE} and {ISSUE_FOLDER} at the console, the file that Banner names in {SSHD_CONFIG} by the remote shell, "
        "banner-message of gdm3",
        _read_notice,
        _put_notice,
        counts=_counts,
    ),
}
