"""Carriers: the systems the other way. Each looks at a thing anew, makes a step, and can be asked again."""
