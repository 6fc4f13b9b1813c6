"""Checks, one family a file; each family's checks are rows of `table.py`."""
