"""Whose account is whose: principals, membership in groups, matching of accounts, homes."""
