"""verrou baseline: what ships, what a baseline asks for once it is put together, and whether a file is sound."""

import click

from verrou.cli.options import (
    fetch_baseline,
    format_option,
    load_baseline,
    print_facts,
    shipped_baselines,
)


@click.group()
def baseline() -> None:
    """Baselines: what a machine should be."""


@baseline.command("list")
@format_option
def list_baselines(style: str) -> None:
    """The baselines that ship."""
    from verrou.reports.sheets import Sheet, columns_of, console, print_sheet

    rows = []
    for name in shipped_baselines():
        loaded = load_baseline(name)
        rows.append({"baseline": name, "title": loaded.title, "rules": len(loaded.demands)})
    columns = columns_of(("baseline", "baseline"), ("title", "title"), ("rules", "rules"), whole=("baseline",))
    sheet = Sheet("baselines", columns, tuple(rows))
    print_facts(style, sheet, rows, lambda: print_sheet(console(), sheet))


@baseline.command("show")
@click.argument("name")
@format_option
def show(name: str, style: str) -> None:
    """Everything a baseline asks for, what it builds on included, with the reason and the place of each."""
    from verrou.reports.sheets import Sheet, columns_of, console, print_sheet, shown

    loaded = load_baseline(name)
    rows = [
        {"subject": d.rule.id, "wanted": d.desired.say(d.rule), "because": d.because, "from": str(d.mark)}
        for d in loaded.demands.values()
    ]
    rows += [
        {"subject": f"accounts.{a.name}", "wanted": a.role.value, "because": a.because, "from": str(a.mark)}
        for a in loaded.accounts.values()
    ]
    rows += [
        {"subject": f"groups.{g.name}", "wanted": ", ".join(g.members), "because": g.because, "from": str(g.mark)}
        for g in loaded.groups.values()
    ]
    rows += [
        {
            "subject": w.rule,
            "wanted": f"waived{f' on {w.machine}' if w.machine else ''} until {w.until}",
            "because": f"{w.reason} ({w.by})",
            "from": str(w.mark),
        }
        for w in loaded.waivers
    ]
    columns = columns_of(
        ("subject", "rule"), ("wanted", "should be"), ("because", "because"), ("from", "from"), whole=("subject",)
    )
    sheet = Sheet("baseline", columns, tuple(rows))

    def text() -> None:
        out = console()
        out.print(shown(loaded.title))
        out.print()
        print_sheet(out, sheet)

    print_facts(style, sheet, {"title": loaded.title, "asks": rows}, text)


@baseline.command("check")
@click.argument("names", nargs=-1, required=True)
def check(names: tuple[str, ...]) -> None:
    """Whether baseline files are sound; every error of each is told, with file and line."""
    from verrou.core.baseline import BaselineRefused, read_baseline
    from verrou.reports.sheets import shown

    refused = 0
    for name in names:
        try:
            loaded = read_baseline(*fetch_baseline(name), fetch_baseline)
        except BaselineRefused as errors:
            refused += 1
            for problem in errors.problems:
                click.echo(f"verrou: {shown(problem)}", err=True)
        else:
            asked = len(loaded.demands) + len(loaded.accounts) + len(loaded.groups)
            click.echo(f"{name}: sound; asks for {asked} things, waives {len(loaded.waivers)}")
    if refused:
        click.get_current_context().exit(BaselineRefused.exit_code)
