"""Team folders, hand-outs and links: records, rules, ways, what lapses and what taking back would do."""
