"""Commands, one a file: `add_arguments(parser)` and `run(args, app) -> exit status`; thin."""
