"""Tables as CSV files."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence
from pathlib import Path

from supple_snare.disk.outputs import NEW_FILES, WriteGuard, output_file


def write_csv(
    path: Path, header: Sequence[str], rows: Iterable[Sequence[object]], *, guard: WriteGuard = NEW_FILES
) -> None:
    """Write a table with a header line.

    Raises
    ------
    OutputError
        If the file may not or cannot be written; what was there stays.
    """
    text = io.StringIO(newline="")
    writer = csv.writer(text)
    writer.writerow(header)
    writer.writerows(rows)
    with output_file(path, guard) as file:
        file.write(text.getvalue().encode(errors="backslashreplace"))
