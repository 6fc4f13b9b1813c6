"""Questions to an office, one a file: each takes the office and values, asks the core, and returns what it found.

This is the public Python interface: ``from neatledger.questions import open_office, who`` (see ``docs/python.md``).
"""

from neatledger.questions.office import Office, open_office

__all__ = ["Office", "open_office"]
