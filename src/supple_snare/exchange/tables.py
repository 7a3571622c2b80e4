"""Tables as CSV files."""

from __future__ import annotations

import csv
import io
import os
from collections.abc import Iterable, Sequence
from pathlib import Path

from supple_snare.errors import TableError
from supple_snare.exchange.replacing import replacing


def write_csv(path: Path, header: Sequence[str], rows: Iterable[Sequence[object]]) -> None:
    """Write a table with a header line; what stood there before is replaced in a single step.

    Raises
    ------
    TableError
        If the file cannot be written; what was there stays.
    """
    text = io.StringIO(newline="")
    writer = csv.writer(text)
    writer.writerow(header)
    writer.writerows(rows)
    try:
        with replacing(path) as file:
            file.write(text.getvalue().encode())
    except OSError as error:
        reason = os.strerror(error.errno or 0)
        raise TableError(f"{path}: the table could not be written ({reason}); choose another folder.") from error
