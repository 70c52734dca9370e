"""A page to print."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QMarginsF
from PyQt6.QtGui import QPageLayout, QPageSize, QPdfWriter, QTextDocument

from ....core.files.atomic import atomic


def print_pdf(markdown: str, path: Path) -> None:
    """The checklist as one A4 page, black on white. Raises OutputRefused, WriteFailed."""
    with atomic(path, overwrite=True) as partial:
        writer = QPdfWriter(str(partial))
        writer.setPageLayout(
            QPageLayout(
                QPageSize(QPageSize.PageSizeId.A4),
                QPageLayout.Orientation.Portrait,
                QMarginsF(18, 18, 18, 18),
                QPageLayout.Unit.Millimeter,
            )
        )
        writer.setTitle("Bichromus, tonight")
        document = QTextDocument()
        document.setDefaultStyleSheet("body { color: black; }")
        document.setMarkdown(markdown)
        document.print(writer)
        del writer
