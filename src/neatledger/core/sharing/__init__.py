"""Team folders, hand-outs and links: their ways, the rules they are put to, what lapses, taking back."""
