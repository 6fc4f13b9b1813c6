"""Grouping: the fewest groups that give people what they have, and groups that are in need of tidying."""
