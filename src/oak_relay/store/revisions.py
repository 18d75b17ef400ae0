"""Where migrations stand, and which one is the newest."""

from pathlib import Path

MIGRATIONS = Path(__file__).parent / "migrations"
NEWEST = max(file.stem[:4] for file in (MIGRATIONS / "versions").glob("[0-9]*.py"))
"""The newest revision that this release knows."""
