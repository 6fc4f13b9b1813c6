"""Faces: how a report is shown; one function each."""
