"""Controls side by side."""

from __future__ import annotations

from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QWidget


def row_of(*widgets: QWidget) -> QWidget:
    """Widgets side by side."""
    made = QWidget()
    row = QHBoxLayout(made)
    row.setContentsMargins(0, 2, 0, 2)
    row.setSpacing(6)
    for widget in widgets:
        widget.setSizePolicy(QSizePolicy.Policy.Maximum, QSizePolicy.Policy.Fixed)
        widget.setMinimumWidth(20)
        row.addWidget(widget)
    row.addStretch(1)
    return made
