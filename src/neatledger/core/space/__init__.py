"""Space: what is used and allowed, what is left and stops first, what is promised, and where it goes."""
