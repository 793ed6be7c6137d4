"""What is kept of a machine, and over many."""

JOURNAL = "journal.jsonl"
"""The file of a machine's journal, among its records."""
