"""What the person changes about the channel on the stage: its chain, its layers, the response."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QWidget

from ....workspace.channels import commands
from ....workspace.channels.cleaning import STEPS
from ....workspace.channels.prepared import Prepared
from ....workspace.channels.steps import eye_of
from ....workspace.project.state import PLANE
from ....workspace.session import Session


class ChannelEditing:
    """Gestures on the channel that ``on_stage`` names; none of them does anything without one."""

    def __init__(
        self, session: Session, window: QWidget, on_stage: Callable[[], Prepared | None]
    ) -> None:
        self.session, self._window, self._on_stage = session, window, on_stage

    @property
    def prepared(self) -> Prepared | None:
        """The channel on the stage."""
        return self._on_stage()

    def choose_response(self) -> None:
        """Generic, or a table of the person's own, for the camera of the channel on the stage."""
        wanted = self.session.state.preparation
        eye = eye_of(self.session.channels.snapshot, wanted, self.prepared)
        if wanted.response_of(eye) != "generic":
            self.session.do(commands.set_response("generic", eye))
            return
        path, _ = QFileDialog.getOpenFileName(
            self._window, "Response table", str(Path.home()), "CSV (*.csv)"
        )
        if path:
            self.session.channels.take_response(Path(path), eye)

    def choose_layer(self) -> None:
        """A layer of stars made elsewhere."""
        if self.prepared is None:
            return
        path, _ = QFileDialog.getOpenFileName(
            self._window,
            f"Stars of {self.prepared.channel}",
            str(Path.home()),
            "Pictures (*.fits *.fit *.fts *.tif *.tiff *.png)",
        )
        if path:
            self.session.document.trust.accept([Path(path)])
            self.session.do(commands.set_layer(self.prepared.channel, Path(path)))

    def choose_folder(self) -> None:
        """Where both layers are written."""
        if self.prepared is None:
            return
        folder = QFileDialog.getExistingDirectory(
            self._window, "Folder for both layers", str(Path.home())
        )
        if folder:
            self.session.channels.save_layers(self.prepared.channel, Path(folder))

    def switch(self, step_id: str, on: bool) -> None:
        """Switch a step of the chain."""
        prepared, do = self.prepared, self.session.do
        if prepared is None:
            return
        name, channels = prepared.channel, self.session.channels.snapshot
        if step_id == "gradient":
            do(commands.set_gradient(name, None if on else PLANE))
        elif step_id == "pool":
            own = [p for p in channels.alone(name) if p.shape == channels.grid]
            do(commands.choose_origin((channels.pool(name) or own[0]) if on else own[0]))
        elif step_id == "stars":
            do(commands.set_split((name,), on))
        else:
            step = next(s for s in STEPS if s.id == step_id)
            setting = step.offer(name, channels.in_use) if on else None
            do(commands.set_cleaning(step_id, name, setting))

    def use_measured(self) -> None:
        """Take the leaks that the data tell for the channel that is shown."""
        if self.prepared is not None:
            self.session.channels.use_measured_leaks(self.prepared.channel)
