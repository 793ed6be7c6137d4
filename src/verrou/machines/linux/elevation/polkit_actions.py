"""The polkit actions of each right at the machine and each limit of shared use."""

from collections.abc import Mapping

LOGIN, UDISKS, KIT = "org.freedesktop.login1", "org.freedesktop.udisks2", "org.freedesktop.packagekit"
RIGHTS: Mapping[str, tuple[str, ...]] = {
    "rights.shut_down": tuple(
        f"{LOGIN}.{what}{who}"
        for what in ("power-off", "reboot", "halt")
        for who in ("", "-multiple-sessions", "-ignore-inhibit")
    ),
    "rights.set_clock": tuple(
        f"org.freedesktop.timedate1.set-{what}" for what in ("time", "timezone", "ntp", "local-rtc")
    ),
    "rights.install_software": (
        *(f"{KIT}.package-install", f"{KIT}.package-install-untrusted", f"{KIT}.package-reinstall"),
        *(f"{KIT}.system-sources-configure", f"{KIT}.system-update", f"{KIT}.upgrade-system"),
        *("org.freedesktop.Flatpak.app-install", "org.freedesktop.Flatpak.runtime-install"),
        "org.debian.apt.install-or-remove-packages",
    ),
}
DRIVES: Mapping[str, tuple[str, ...]] = {
    "removable": (f"{UDISKS}.filesystem-mount", f"{UDISKS}.filesystem-mount-other-seat", f"{UDISKS}.encrypted-unlock"),
    "system": (f"{UDISKS}.filesystem-mount-system", f"{UDISKS}.encrypted-unlock-system"),
}
"""Removable drives, and the drives that the system is on or that are built in."""
SETTINGS = (
    *("org.freedesktop.accounts.change-own-user-data", "org.freedesktop.accounts.change-own-password"),
    *("org.freedesktop.hostname1.set-hostname", "org.freedesktop.hostname1.set-static-hostname"),
    *("org.freedesktop.locale1.set-locale", "org.freedesktop.locale1.set-keyboard"),
    *("org.freedesktop.NetworkManager.network-control", "org.freedesktop.NetworkManager.settings.modify.own"),
    *("org.freedesktop.NetworkManager.settings.modify.system", "org.freedesktop.color-manager.modify-profile"),
)
CLOSED = "settings"
EXEC = "org.freedesktop.policykit.exec"
STANDARD = "standard"
ACTIONS: Mapping[str, tuple[str, ...]] = {**RIGHTS, **DRIVES, CLOSED: SETTINGS, STANDARD: (EXEC,)}
"""The actions of each right and each limit."""
ALL = tuple(action for actions in ACTIONS.values() for action in actions)
