"""Run the command as ``python -m neatledger``."""

from neatledger.start import main

if __name__ == "__main__":
    raise SystemExit(main())
