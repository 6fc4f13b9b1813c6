"""Passwords that the keyring of whoever runs this keeps."""

from __future__ import annotations

__all__ = ["keep_password", "password_of"]


def password_of(service: str, user: str) -> str | None:
    """Return a password, None where the keyring has none, or there is no keyring."""
    try:
        import keyring
        from keyring.errors import KeyringError
    except ImportError:
        return None
    try:
        return keyring.get_password(service, user)
    except (KeyringError, ImportError, AttributeError, TypeError, RuntimeError):
        # No keyring here, or one that is set up badly: whoever asks says what to do.
        return None


def keep_password(service: str, user: str, password: str) -> bool:
    """Keep a password; tell whether it is kept."""
    try:
        import keyring
        from keyring.errors import KeyringError
    except ImportError:
        return False
    try:
        keyring.set_password(service, user, password)
    except (KeyringError, ImportError, AttributeError, TypeError, RuntimeError):
        return False
    return True
