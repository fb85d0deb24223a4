"""Where a command draws: the name of the picture's file, and what can be in the way."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from daskel.cli.usage import UsageProblem
from daskel.system.requirements import MissingRequirementError

EXTRA = "install it: pip install 'daskel[plot]'"


def check_name(path: Path | None) -> None:
    """Before the long work. Raises UsageProblem."""
    if path is not None and path.suffix not in (".png", ".svg"):
        raise UsageProblem(f"{path} is not a .png or .svg file", "end its name with .png or .svg")


@contextmanager
def drawing(path: Path) -> Iterator[None]:
    """Around the import of the libraries, which take a second and need not be there, and the
    drawing. Raises MissingRequirementError."""
    try:
        yield
    except ModuleNotFoundError as error:
        raise MissingRequirementError(f"a picture needs {error.name}", EXTRA) from None
    except OSError as error:
        problem = f"cannot write {path} ({error.strerror})"
        raise MissingRequirementError(problem, "name another file") from None
