"""The computation: imports neither the interface, nor any outside system, nor the store.

Its rooms, from the ground; a room imports only those that stand before it: `lists`, `tree`, the two sides as records
(`plan`, `survey`), `people`, `access`, `space`, `sharing`, `checks`.
"""
