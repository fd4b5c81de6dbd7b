"""What the build of a wheel makes: a manual page for each command, and the files by which shells complete."""

import importlib
import shutil
import sys
import tempfile
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

_COMPLETION = {
    "bash": "share/bash-completion/completions/inkstamp",
    "zsh": "share/zsh/site-functions/_inkstamp",
    "fish": "share/fish/vendor_completions.d/inkstamp.fish",
}
"""Where each shell looks for it, below the prefix that the wheel is installed into."""


class SharedFiles(BuildHookInterface[Any]):
    """Puts them into the wheel, from where pip installs them below `share/`."""

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:  # noqa: ARG002  hatchling calls it so
        """Write them, and have the wheel hold them."""
        made = self._made = Path(tempfile.mkdtemp(prefix="inkstamp-build-"))
        sys.path[:0] = [str(Path(self.root, "src")), str(Path(self.root, "tools"))]
        pages = importlib.import_module("man_pages").write_pages(made)
        build_data["shared_data"] |= {str(each): f"share/man/man1/{each.name}" for each in pages}
        shell_code = importlib.import_module("inkstamp.cli.completion").shell_code
        for shell, place in _COMPLETION.items():
            written = made / shell
            written.write_text(shell_code(shell), encoding="utf-8")
            build_data["shared_data"][str(written)] = place
        sys.path[:2] = []

    def finalize(self, version: str, build_data: dict[str, Any], artifact_path: str) -> None:  # noqa: ARG002  hatchling calls it so
        """Remove what was written beside the sources."""
        shutil.rmtree(self._made)
