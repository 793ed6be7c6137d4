"""Background jobs of an account, and which of them matter when it is disabled."""

from verrou.core.model.facts import Account, Act, ActKind
from verrou.core.model.text import counted

SYSTEMS_OWN = (ActKind.CRONTAB, ActKind.AT_JOB, ActKind.LINGERING)
"""What a step can take away: files of the system that are about one account alone."""


def own_jobs(account: Account) -> tuple[Act, ...]:
    """Return the background jobs of the account that a step can remove."""
    return tuple(act for act in account.acts if act.kind in SYSTEMS_OWN)


def lasting_acts(account: Account) -> tuple[Act, ...]:
    """Return the background jobs that remain after those are removed."""
    return tuple(act for act in account.acts if act.kind not in SYSTEMS_OWN)


def act_text(act: Act) -> str:
    """Return one act, in words that follow the name of an account and a colon."""
    where = str(act.source)
    return {
        ActKind.CRONTAB: f"crontab {where}",
        ActKind.AT_JOB: f"at job {where}",
        ActKind.LINGERING: f"its services start at boot: {where}",
        ActKind.CRON_LINE: f"cron runs jobs as this account: {where}",
        ActKind.UNIT: f"a system service runs as this account: {where}",
        ActKind.KEY: f"its key also signs in to {act.opens}: {where}",
        ActKind.LINE: f"named in {where}",
    }[act.kind]


def keeps_running(account: Account) -> list[str]:
    """Return what keeps running although no one can sign in as the account, in words; empty for nothing."""
    message = [f"{counted(account.processes, 'process')} running"] if account.processes else []
    return message + [act_text(act) for act in account.acts if act.runs_when_disabled]
