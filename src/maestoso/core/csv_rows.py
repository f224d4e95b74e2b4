"""Reading and writing CSV (RFC 4180) that people and spreadsheets handle: one place for its traps."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Sequence

from maestoso.core.errors import BadValue
from maestoso.core.files import LARGEST_CELL, MOST_ROWS, BadFile, Complaint, text_of

FORMULA = ("=", "+", "-", "@", "'", "\t", "\r")
YES, NO = ("yes", "true", "1"), ("no", "false", "0", "")


def read_rows(
    raw: bytes, columns: Sequence[str], needed: Sequence[str], complaints: list[Complaint]
) -> Iterator[tuple[int, dict[str, str]]]:
    """Every row that has cells, as (line, cells by column). Raises BadFile; other trouble is a complaint."""
    # The reader's own limit would end the whole file; a cell that is too long is that row's fault only.
    csv.field_size_limit(2**31 - 1)
    reader = csv.reader(io.StringIO(text_of(raw), newline=""), strict=True)
    try:
        header = [column.strip().lower() for column in next(reader, [])]
    except csv.Error as error:
        raise BadFile(f"The first line cannot be read: {error}.", "Give the column names there.") from error
    _check_header(header, columns, needed)
    rows = 0
    try:
        for cells in reader:
            if not any(cell.strip() for cell in cells):
                continue
            rows += 1
            if rows > MOST_ROWS:
                raise BadFile(f"The file has more than {MOST_ROWS} rows.", "Import it in parts.")
            if len(cells) > len(header):
                said = f"The row has {len(cells)} cells, the first line {len(header)}."
                complaints.append(Complaint(row=reader.line_num, column="", sentence=said))
                continue
            long = next((n for n, cell in enumerate(cells) if len(cell) > LARGEST_CELL), None)
            if long is not None:
                said = f"The cell has {len(cells[long])} characters. Give at most {LARGEST_CELL}."
                complaints.append(Complaint(row=reader.line_num, column=header[long], sentence=said))
                continue
            yield reader.line_num, {c: _plain(cell) for c, cell in zip(header, cells, strict=False)}
    except csv.Error as error:
        said = f"From here on it cannot be read: {error}."
        complaints.append(Complaint(row=reader.line_num, column="", sentence=said))


def _check_header(header: list[str], columns: Sequence[str], needed: Sequence[str]) -> None:
    unknown = [column for column in header if column not in columns]
    if unknown:
        raise BadFile(f"The column {unknown[0][:60]!r} is not known.", f"Columns are: {', '.join(columns)}.")
    missing = [column for column in needed if column not in header]
    if missing:
        raise BadFile(f"The column {missing[0]!r} is missing.", "It is needed in the first line.")
    doubled = [column for column in header if header.count(column) > 1]
    if doubled:
        raise BadFile(f"The column {doubled[0]!r} is there twice.", "Remove one.")


def _plain(cell: str) -> str:
    """Takes away the quote that keeps spreadsheets from running a cell."""
    text = cell.strip()
    return text[1:] if text[:1] == "'" and text[1:2] in FORMULA else text


def yes_no(text: str, column: str) -> bool:
    """A cell that says yes or no. Raises BadValue."""
    if text.lower() in YES:
        return True
    if text.lower() in NO:
        return False
    raise BadValue(f"{text[:60]!r} is neither yes nor no.", "Give yes or no.", field=column)


def yes(value: bool) -> str:
    """The text of a truth value."""
    return "yes" if value else "no"


def line(cells: Iterable[str]) -> str:
    """One line. No cell begins like a formula."""
    out = io.StringIO()
    csv.writer(out).writerow([f"'{cell}" if cell.startswith(FORMULA) else cell for cell in cells])
    return out.getvalue()
