"""What a password must be, how long it lives, and how it is stored."""

import math

from verrou.core.model import Effect
from verrou.core.rules.declaration import Agreement, Rule, Severity
from verrou.core.values import Choice, Count, NameSet, Span, YesNo

PWQUALITY = (
    "/etc/security/pwquality.conf and, read before it, /etc/security/pwquality.conf.d/*.conf; an argument of "
    "pam_pwquality.so in the PAM stack wins over both"
)
AGEING = (
    "in /etc/login.defs for accounts still to be made, and in each account's line of /etc/shadow, "
    "root's left out, since programs run as it and would be refused"
)

RULES = (
    Rule(
        id="password.min_length",
        title="length of a password",
        kind=Count("characters", 0, 128, more_is_stricter=True),
        severity=Severity.GRAVE,
        why_severe="length is what makes guessing long; everything else adds little to a short password",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="Short passwords fall to guessing, at the keyboard and from a stolen disk.",
        costs="Longer passwords are mistyped more often; a phrase of several words helps.",
        kept={
            "linux": f"minlen in {PWQUALITY}; credits for character classes make the real minimum shorter",
            "bench": "the authority's shortest length",
        },
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.classes",
        title="kinds of character (lower, upper, digit, symbol) in a password",
        kind=Count("kinds", 0, 4, more_is_stricter=True),
        severity=Severity.SLIGHT,
        why_severe="length matters more; kinds of character keep out the plainest words",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="A plain word or a row of digits alone is refused.",
        costs="People put a capital first and a digit last; a high number makes passwords harder to type on a "
        "foreign keyboard.",
        kept={
            "linux": f"minclass, and each negative credit, in {PWQUALITY}",
            "bench": "the authority's number of classes",
        },
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.remember",
        title="earlier passwords that may not come again",
        kind=Count("passwords", 0, 24, more_is_stricter=True),
        severity=Severity.SLIGHT,
        why_severe="it only matters where passwords must be changed",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="A forced change cannot be answered with the old password. The one in use counts as the first.",
        costs="People number their passwords. Together with a minimum age it cannot be run through in a minute.",
        kept={
            "linux": "the remember argument of pam_pwhistory.so in the PAM stack (10 when it is not given)",
            "bench": "the authority's history length",
        },
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.max_age",
        title="when a password must be changed",
        kind=Span("day", 1, 999, more_is_stricter=False, words={"never": math.inf}),
        severity=Severity.SLIGHT,
        why_severe="a password that was seen or shared stays good until it is changed",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="A password known to last season's staff stops working by itself.",
        costs="Frequent changes make weaker passwords; an account nobody used for long asks for a new one first.",
        kept={
            "linux": f"PASS_MAX_DAYS {AGEING}",
            "bench": "the authority's longest age in days; 0 there means never",
        },
        controls=("IA-5(1)",),
        agreements=(Agreement(">", "password.min_age"),),
    ),
    Rule(
        id="password.min_age",
        title="how soon a password may be changed again",
        kind=Span("day", 0, 998, more_is_stricter=True),
        severity=Severity.SLIGHT,
        why_severe="it only guards the memory of earlier passwords",
        takes_effect=Effect.NOW,
        protects="Nobody runs through the remembered passwords in a minute to get the old one back.",
        costs="Somebody whose password was seen cannot change it the same day without an administrator.",
        kept={
            "linux": f"PASS_MIN_DAYS {AGEING}",
            "bench": "the authority's shortest age in days",
        },
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.warn_before",
        title="warning before a password ends",
        kind=Span("day", 0, 99, more_is_stricter=True),
        severity=Severity.SLIGHT,
        why_severe="without a warning people meet the change when they have no time for it",
        takes_effect=Effect.NEXT_SIGN_IN,
        protects="People choose a good password in time instead of any password in haste.",
        costs="A line at every sign-in of the last days.",
        kept={
            "linux": f"PASS_WARN_AGE {AGEING}",
            "bench": "the authority's days of warning",
        },
        controls=("IA-5(1)",),
        agreements=(Agreement("<", "password.max_age"),),
    ),
    Rule(
        id="password.may_contain_name",
        title="a password may contain the account's name",
        kind=YesNo(stricter=False),
        severity=Severity.SERIOUS,
        why_severe="the account's name is the first thing anybody tries",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="Passwords such as the name with a year behind it are refused.",
        costs="Hardly anything; very short account names can refuse a good password by chance.",
        kept={
            "linux": f"usercheck in {PWQUALITY}",
            "bench": "a switch of the authority",
        },
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.dictionary",
        title="passwords are looked up in a dictionary",
        kind=Choice(("unchecked", "checked")),
        severity=Severity.SERIOUS,
        why_severe="common words and patterns are tried first",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="Words, reversed words and keyboard rows are refused even when they are long.",
        costs="The refusal can surprise; on Linux a missing dictionary refuses every password.",
        kept={
            "linux": f"dictcheck in {PWQUALITY}, and the dictionary in /var/cache/cracklib",
            "bench": "not kept: the authority knows no dictionary",
        },
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.storage",
        title="how passwords are stored",
        kind=NameSet(("yescrypt", "gost-yescrypt", "scrypt", "bcrypt", "sha512", "sha256", "pbkdf2")),
        severity=Severity.GRAVE,
        why_severe="a weak or reversible form gives the password to whoever reads the disk",
        takes_effect=Effect.NEXT_PASSWORD,
        protects="A stolen disk does not give away the passwords on it.",
        costs="Nothing for new passwords; an account with an old form needs a new password to get the new one.",
        kept={
            "linux": "the scheme named on the pam_unix.so password line (ENCRYPT_METHOD in /etc/login.defs does not "
            "decide), and the hashes that stand in /etc/shadow",
            "bench": "what the authority writes",
        },
        controls=("IA-5(1)",),
    ),
    Rule(
        id="password.blank_console_only",
        title="a blank password is good at the console only",
        kind=YesNo(stricter=True),
        severity=Severity.GRAVE,
        why_severe="otherwise everybody on the network can get in as that account",
        takes_effect=Effect.NOW,
        protects="A guest with a blank password can be used by whoever stands at the machine, and by nobody else.",
        costs="Nobody should miss what it forbids.",
        kept={
            "linux": "PermitEmptyPasswords of the remote shell server, and nullok on pam_unix.so where a remote "
            "screen server has its own PAM service",
            "bench": "a switch of the authority, on as shipped",
        },
        controls=("AC-17", "IA-5"),
    ),
)
