"""The computation: imports neither the interface, nor any outside system, nor the store."""
