"""People over time: what a post makes of a name, what is beyond their posts, what hangs on who leaves."""
