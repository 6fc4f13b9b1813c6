"""Formats: pure functions between bytes or text and core types, one format a file."""
