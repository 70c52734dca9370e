"""A channel's origins in one: pooled or not, with the weight of each, and its gradient."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from ....workspace.prepared import Prepared
from ....workspace.session import Session
from ...widgets.choice import ChoiceBox
from ...widgets.fold import Figures

GRADIENTS = ((None, "sky: a plane is taken off"), (-1, "sky: gradient, degree chosen"), (1, "sky: gradient, degree 1"),
             (2, "sky: gradient, degree 2"), (3, "sky: gradient, degree 3"), (4, "sky: gradient, degree 4"))


class PoolBox(QWidget):
    """For the channel that is selected."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._channel = ""
        self._row = QVBoxLayout(self)
        self._row.setContentsMargins(0, 0, 0, 4)
        self.gradient = ChoiceBox("gradient of the sky", "What is taken off the sky: a plane through its low parts,\n"
                                  "or a surface through all tiles without stars and nebula")
        self.gradient.addItems([words for _, words in GRADIENTS])
        self.gradient.activated.connect(lambda i: session.set_gradient(self._channel, GRADIENTS[i][0]))
        self.pool = QCheckBox("pool all origins")
        self.pool.setAccessibleName("pool all origins")
        self.pool.setToolTip("One channel from all its origins, each weighted by (flux / noise)²;\n"
                             "what only one of them shows is left out where there are three or more")
        self.pool.clicked.connect(lambda on: session.set_pooled(self._channel, bool(on)))
        self.parts = Figures()
        self._outs: dict[str, QCheckBox] = {}
        self._row.addWidget(self.gradient)
        self._row.addWidget(self.pool)
        self._row.addWidget(self.parts)

    def show_channel(self, prepared: Prepared) -> None:
        """Show what can be done with a channel."""
        session, self._channel = self._session, prepared.channel
        state = session.state
        members = [p for p in session.channels.of(prepared.channel)
                   if not p.preliminary and p.notes.get("kind") != "pooled"]
        self.pool.setVisible(len(members) > 1)
        self.pool.setChecked(prepared.channel in state.pooled)
        self.gradient.setCurrentIndex([d for d, _ in GRADIENTS].index(state.gradient.get(prepared.channel)))
        pooled = session.channels.origins.get(f"pool@{prepared.channel}")
        rows = []
        if pooled is not None:
            for part in pooled.notes["parts"]:
                rows.append((part["label"], f"flux {part['flux']:.3f}", f"{100 * part['weight']:.0f} %",
                             f"Its weight: (flux / noise)² among all.\nFlux from its {part['from']}; "
                             f"{100 * part['rejected']:.3f} % of its pixels are left out"))
            rows.append(("together", "over best alone", f"{pooled.notes['gain']:.2f} ×",
                         "What pooling gains over the best of them alone"))
        gradient = prepared.notes.get("gradient")
        if gradient:
            slopes = f"{gradient['before']:.1f} → {gradient['after']:.1f} σ"
            rows.append(("gradient", f"degree {gradient['degree']}", slopes,
                         "Slope of the sky before and after, peak to peak over the noise"))
        self.parts.show_rows(rows)
        self._show_outs(members, prepared.channel in state.pooled)

    def _show_outs(self, members: list[Prepared], pooled: bool) -> None:
        """A box for each origin of the pool: in it or not."""
        for box in self._outs.values():
            box.hide()
            box.deleteLater()
        self._outs = {}
        if not pooled or len(members) < 3:
            return
        for member in members:
            box = QCheckBox(f"with {member.label}")
            box.setAccessibleName(f"pool with {member.label}")
            box.setToolTip("Clear it to pool without this one; the gain says what is lost")
            box.setChecked(member.origin not in self._session.state.left_out)
            box.clicked.connect(lambda on, o=member.origin: self._session.leave_out(o, not on))
            self._outs[member.origin] = box
            self._row.insertWidget(2, box)
