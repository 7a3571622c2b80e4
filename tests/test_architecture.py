"""The house rules that imports can break."""

from __future__ import annotations

import ast
import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import soundfile

import supple_snare

SOURCE = Path(supple_snare.__file__).parent
CORE = ("timing", "sound", "session", "exchange", "demo")


def test_nothing_but_the_desk_imports_qt():
    """Not even inside a function."""
    for path in SOURCE.rglob("*.py"):
        if "desk" in path.relative_to(SOURCE).parts:
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            names = []
            if isinstance(node, ast.Import):
                names = [alias.name for alias in node.names]
            elif isinstance(node, ast.ImportFrom):
                names = [node.module or ""]
            assert not any(name.startswith("PyQt6") for name in names), path


@pytest.mark.parametrize("house", CORE)
def test_the_core_works_without_qt(house):
    """Importing a house in a fresh process loads nothing of Qt."""
    modules = [
        ".".join(("supple_snare", *path.relative_to(SOURCE).with_suffix("").parts))
        for path in (SOURCE / house).rglob("*.py")
    ]
    code = "import importlib, sys\nfor name in sys.argv[1:]: importlib.import_module(name)\n"
    code += "sys.exit(any(name.startswith('PyQt6') for name in sys.modules))"
    environment = {**os.environ, "PYTHONPATH": str(SOURCE.parent)}
    assert subprocess.run([sys.executable, "-c", code, *modules], check=False, env=environment).returncode == 0


def test_every_module_says_what_it_is_for():
    """A docstring on each module, and on each public class and function."""
    for path in SOURCE.rglob("*.py"):
        tree = ast.parse(path.read_text())
        assert ast.get_docstring(tree), path
        for node in tree.body:
            if isinstance(node, ast.FunctionDef | ast.ClassDef) and not node.name.startswith("_"):
                assert ast.get_docstring(node), f"{path}: {node.name}"


def loaded_by(code: str, modules: tuple[str, ...]) -> list[str]:
    """Which of some modules a fresh interpreter has loaded after some code."""
    code += f"\nimport sys; print(*[name for name in {modules!r} if name in sys.modules])"
    return subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.split()


def test_the_window_does_not_wait_for_what_only_analysis_needs():
    """To import SciPy takes as long as to make the window."""
    assert not loaded_by("import supple_snare.desk.window", ("scipy", "lxml", "wavinfo"))


def test_finding_hits_does_not_wait_for_filters_of_others(tmp_path):
    """SciPy's signal module alone takes two seconds to import, more than to listen to a minute of three tracks."""
    soundfile.write(tmp_path / "a.wav", np.random.default_rng(1).normal(0.0, 0.1, 48_000), 48_000)
    code = f"from supple_snare.cli import main; main(['hits', {str(tmp_path / 'a.wav')!r}])"
    assert not loaded_by(code, ("scipy.signal", "scipy.stats", "scipy.ndimage", "scipy.fft"))


def test_algebra_takes_one_core():
    """Threads of the algebra library would wait for one another on cores that other tracks could have."""
    code = "import os, supple_snare, scipy.linalg, numpy as np; square = np.eye(600) + 0.01; square @ square\n"
    code += "scipy.linalg.solve(square, square); print(len(os.listdir('/proc/self/task')))"
    environment = {name: value for name, value in os.environ.items() if name != "OPENBLAS_NUM_THREADS"}
    environment["PYTHONPATH"] = str(SOURCE.parent)
    found = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, env=environment)
    assert int(found.stdout) == 1
