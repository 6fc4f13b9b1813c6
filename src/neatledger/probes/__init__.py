"""Probes: what is at an address, as the piece of a plan that would read it; one sort of system a file."""
