"""What acts for an account without anybody signing in as it, and what of that matters when the account is closed."""

from verrou.core.model.facts import Account, Act, ActKind
from verrou.core.model.words import counted

SYSTEMS_OWN = (ActKind.CRONTAB, ActKind.AT_JOB, ActKind.LINGERING)
"""What a step can take away: files of the system that are about one account alone."""


def own_jobs(account: Account) -> tuple[Act, ...]:
    """What runs for the account by itself and can be taken away by a step."""
    return tuple(act for act in account.acts if act.kind in SYSTEMS_OWN)


def lasting_acts(account: Account) -> tuple[Act, ...]:
    """What is left when that is taken away."""
    return tuple(act for act in account.acts if act.kind not in SYSTEMS_OWN)


def say_act(act: Act) -> str:
    """One act, in words that follow the name of an account and a colon."""
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


def goes_on(account: Account) -> list[str]:
    """What goes on although nobody can sign in as the account, in words; nothing where nothing does."""
    said = [f"{counted(account.processes, 'process')} running"] if account.processes else []
    return said + [say_act(act) for act in account.acts if act.goes_on]
