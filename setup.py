"""A package without the console would answer every page with a sentence: it is not built."""

from pathlib import Path

from setuptools import setup
from setuptools.command.build_py import build_py

CONSOLE = Path("src/metrikon/service/console_files/index.html")


class WithConsole(build_py):
    """Builds the package once the console's files are there; where it is only set up in place, they come later."""

    def run(self) -> None:
        if not self.editable_mode and not CONSOLE.exists():
            raise SystemExit("The console is not built, and the package would have none. Run `make console` first, then build the package again.")
        super().run()


setup(cmdclass={"build_py": WithConsole})
