"""`python -m daskel`: the same as the command `daskel`."""

from daskel.cli.main import main

if __name__ == "__main__":
    raise SystemExit(main())
