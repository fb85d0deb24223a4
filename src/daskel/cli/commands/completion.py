"""`daskel completion`: what a shell needs to complete commands, and the site's own names."""

from __future__ import annotations

import argparse

from daskel.cli.output import ExitCode, Output

EXAMPLE = (
    'eval "$(daskel completion bash)"     # in ~/.bashrc',
    'eval "$(daskel completion zsh)"      # in ~/.zshrc',
    "daskel completion fish > ~/.config/fish/completions/daskel.fish",
)
_SHELLS = ("bash", "zsh", "fish")


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("shell", choices=_SHELLS, metavar="SHELL", help=", ".join(_SHELLS))


def run(args: argparse.Namespace, output: Output) -> ExitCode:
    from argcomplete.shell_integration import shellcode

    output.out.write(shellcode(["daskel"], shell=args.shell))
    return ExitCode.GOOD
