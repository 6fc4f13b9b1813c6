"""Neat Ledger: plan and audit a small office's accounts, shared folders, links and storage."""

__all__ = ["__version__"]

__version__ = "0.1.0"
