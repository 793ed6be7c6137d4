"""verrou demo."""

import shlex
from contextlib import chdir
from pathlib import Path

import click

from verrou.core.errors import BadInput
from verrou.demo.scenario import lay_out
from verrou.reports.tables import console

WALK = (
    ("Who has an account on the terminal in the bird hide, and in which state?", "account list -m hide-01.bench.json"),
    ("Who can sign in, by which route, and who can elevate?", "access -m hide-01.bench.json"),
    ("What does not meet the station's baseline?", "audit -m hide-01.bench.json -b hide-01.toml --not-met"),
    ("Harden it. The second administrator is created first.", "harden -m hide-01.bench.json -b hide-01.toml --yes"),
    ("Some rules take effect after a restart.", "machine restart -m hide-01.bench.json"),
    ("What does a visitor see and do there now? Sit down at it.", "sit sit-down.txt -m hide-01.bench.json --explain"),
    ("Verify it: audit again, and test the rules.", "verify -m hide-01.bench.json -b hide-01.toml"),
    ("Every run is in the journal and can be undone.", "journal list -m hide-01.bench.json"),
)
NEXT = (
    ("the laptop in the ringing hut, in French", "verrou harden -m ringing-02.bench.json -b ringing-02.toml --preview"),
    (
        "another administrator takes over there, tested first",
        "verrou account swap ringer warden -m ringing-02.bench.json --preview",
    ),
    ("someone leaves: the files first", "verrou account remove guillemot --files archive -m hide-01.bench.json"),
    ("a mounted Linux system", "verrou survey -m warden-03"),
    ("why an account can sign in there, line by line", "verrou why skua remote-shell -m warden-03"),
    (
        "what the sign-in screen in the ringing hut displays, allows and denies",
        "verrou signin -m ringing-02.bench.json",
    ),
    ("why its lock-out is not enforced", "verrou rule show lockout -m warden-03"),
    ("what a rule is for", "verrou rule explain lockout.lasts"),
    ("what it does: sit down at a machine", "verrou sit -m hide-01.bench.json --explain"),
    ("a machine to practise on, with its job sheet", "verrou machine new practice-01 --flawed tides"),
    ("all three at once, each with its own baseline", "verrou round surveys --baselines which.toml"),
    ("two seasons of them: what regressed", "verrou trend --on 2026-09-14"),
    (
        "the terminal in the bird hide, one season and the next",
        "verrou compare surveys/hide-01-2025-09 surveys/hide-01-2026-09",
    ),
    ("the sheet to sign", "verrou report -m hide-01.bench.json -b hide-01.toml --save hide-01.html"),
    ("a baseline with five errors", "verrou baseline check with-errors.toml"),
    (
        "undo everything on the terminal in the bird hide",
        "verrou undo -m hide-01.bench.json --override remote-blank-password",
    ),
)


@click.command()
@click.argument("folder", type=click.Path(path_type=Path), default=Path("verrou-demo"))
@click.option("--quiet", is_flag=True, help="Only create the machines; do not show the job.")
def demo(folder: Path, quiet: bool) -> None:
    """Create three sample machines in FOLDER (verrou-demo) and show the whole job on one of them."""
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise BadInput(f"{folder} already exists and is not empty. Give another folder, or delete it first.")
    folder.mkdir(parents=True, exist_ok=True)
    lay_out(folder)
    out = console()
    out.print(f"Three computers of the Cap Fauvel seabird observatory, all made up, are in {folder}.")
    if not quiet:
        with chdir(folder):
            for question, line in WALK:
                _show(question, line)
    out.print()
    out.print(f"What to try next, in {folder}:", style="bold")
    for about, command in NEXT:
        out.print(f"  {command}")
        out.print(f"      {about}", style="dim")


def _show(question: str, line: str) -> None:
    from verrou.cli.main import call

    out = console()
    out.print()
    out.print(f"{question} ".ljust(out.width, "-"), style="dim")
    out.print(f"$ verrou {line}", style="bold")
    out.print()
    if code := call(shlex.split(line)):
        out.print(f"(exit {code})", style="dim")
