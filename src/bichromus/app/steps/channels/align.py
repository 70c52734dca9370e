"""How the stacks lie on each other: the reference, the field that is shown, and a line for each stack."""

from __future__ import annotations

from ....workspace.placing import Placing, suggest_reference
from ....workspace.session import Session
from ...widgets.choice import ChoiceBox
from ...widgets.fold import Figures, Fold, label

CROPS = (("common", "the part that all share"), ("reference", "the reference's frame"), ("union", "all that was seen"))


class AlignFold(Fold):
    """Hidden while there is one stack only."""

    def __init__(self, session: Session) -> None:
        super().__init__("Align")
        self._session = session
        self.reference = ChoiceBox("reference", "The stack whose grid the others take;\n"
                                   "the one with most hours is suggested")
        self.reference.activated.connect(self._choose)
        self.crop = ChoiceBox("field", "What of the field is shown and blended")
        self.crop.addItems([words for _, words in CROPS])
        self.crop.activated.connect(lambda i: session.set_crop(CROPS[i][0]))
        self.add(self.reference)
        self.add(self.crop)
        self.lines = Figures()
        self.add(self.lines)
        self.refused = label("", "wants", wrap=True)
        self.add(self.refused)
        self._ids: list[str] = []

    def _choose(self, index: int) -> None:
        self._session.set_reference(self._ids[index])

    def show_placing(self, placing: Placing) -> None:
        """Show how the stacks of the project lie."""
        state = self._session.state
        stacks = [s for s in state.sources if not s.preliminary]
        self.setVisible(len(stacks) > 1)
        suggested = suggest_reference(stacks)
        ids = [s.id for s in stacks]
        names = [s.label + (", suggested" if s.id == suggested else "") for s in stacks]
        if [self.reference.itemText(i) for i in range(self.reference.count())] != names:
            self.reference.clear()
            self.reference.addItems(names)
        self._ids = ids
        if placing.reference in ids:
            self.reference.setCurrentIndex(ids.index(placing.reference))
        self.crop.setCurrentIndex([c for c, _ in CROPS].index(state.crop))
        moved = [s for s in stacks if s.id in placing.places and placing.places[s.id].match is not None]
        self.crop.setVisible(bool(moved))
        rows = []
        for source in moved:
            place = placing.places[source.id]
            match = place.match
            assert match is not None
            rows.append((source.label, "mirrored" if match.mirror else "", f"{match.rms_px:.2f} px",
                         f"{place.words}\n{match.warp.model}; chance would do as well once in 10^{match.score:.0f}"))
        self.lines.show_rows(rows)
        self.refused.setText("\n".join(placing.refused.values()))
        self.refused.setVisible(bool(placing.refused))
        x0, y0, x1, y1 = placing.box
        self.set_note(f"{x1 - x0} × {y1 - y0}" if moved else "all on one grid" if placing.places else "")
