"""Verrou audits and hardens the local accounts of computers that stand alone, and proves that the result holds."""

__version__ = "0.1.0"
