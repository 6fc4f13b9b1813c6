"""Drafting: the smallest plan that says what was found, and what of it is rather a question."""
