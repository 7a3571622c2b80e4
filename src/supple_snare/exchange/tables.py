"""Tables as CSV files."""

from __future__ import annotations

import csv
import os
import tempfile
from collections.abc import Iterable, Sequence
from pathlib import Path

from supple_snare.errors import TableError


def write_csv(path: Path, header: Sequence[str], rows: Iterable[Sequence[object]]) -> None:
    """Write a table with a header line; what stood there before is replaced in a single step.

    Raises
    ------
    TableError
        If the file cannot be written; what was there stays.
    """
    part = ""
    try:
        handle, part = tempfile.mkstemp(prefix=".table-", dir=path.parent)
        with os.fdopen(handle, "w", newline="", encoding="utf-8") as file:
            writer = csv.writer(file)
            writer.writerow(header)
            writer.writerows(rows)
        Path(part).replace(path)
    except OSError as error:
        if part:
            Path(part).unlink(missing_ok=True)
        reason = os.strerror(error.errno or 0)
        raise TableError(f"{path}: the table could not be written ({reason}); choose another folder.") from error
