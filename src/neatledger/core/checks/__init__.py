"""Checks: what is not in good order, one family a file behind one contract."""
