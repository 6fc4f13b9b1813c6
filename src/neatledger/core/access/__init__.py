"""Effective access: ways and gates for one person, the same for everyone at once, and plan beside found."""
