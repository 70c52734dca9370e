"""``align``: stacks onto one grid."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from ..core.align.stack import Registered, match_lists, resample_stack, shared_box, star_list
from ..core.files import read_picture, write_fits
from ..core.files.atomic import check_output
from ..core.model.errors import InputError
from .common import output_folder
from .parser import add_common
from .telling import done, print_json, say, table, terminal_progress


def register(verbs: Any) -> None:
    """The verb align."""
    parser = verbs.add_parser("align")
    parser.add_argument("files", nargs="+", metavar="FILE")
    parser.add_argument(
        "--reference", required=True, metavar="FILE", help="the stack whose grid the others take"
    )
    parser.add_argument("--out", required=True, metavar="DIR")
    parser.add_argument("--crop", choices=("common", "reference", "union"), default="common")
    parser.add_argument("--overwrite", action="store_true")
    add_common(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    """Lay stacks on a reference."""
    reference = Path(options.reference)
    files = [Path(f) for f in options.files if not _same(Path(f), reference)]
    if not files:
        raise InputError(
            "There is nothing to align",
            do="Give another stack beside the reference",
            file=reference,
        )
    folder = output_folder(options.out)
    targets = _targets(folder, [*files, reference])
    inputs = [*files, reference]
    for target in targets:
        check_output(target, options.overwrite, inputs)
    progress = terminal_progress()
    grid = read_picture(reference)
    progress.step(0.05, f"finding the stars of {reference.name}")
    stars = star_list(grid)
    registered = []
    for number, file in enumerate(files):
        progress.step(0.05 + 0.4 * number / len(files), f"matching {file.name}")
        picture = read_picture(file)
        registered.append(Registered(picture, match_lists(stars, star_list(picture), picture)))
    registered.append(Registered(grid, None))
    box, warnings = shared_box(registered, options.crop)
    frames = []
    for number, (file, target, one) in enumerate(
        zip([*files, reference], targets, registered, strict=True)
    ):
        part = progress.part(
            0.45 + 0.55 * number / len(registered), 0.45 + 0.55 * (number + 1) / len(registered)
        )
        part.step(0.0, f"laying {file.name} over")
        resampled = resample_stack(one, box, part)
        write_fits(
            target,
            resampled.picture.data,
            resampled.picture.header,
            [f"Aligned to {reference.name}" + (f" by {one.match.warp.model}" if one.match else "")],
            options.overwrite,
            inputs,
        )
        frames.append(_frame(file, target, one, resampled))
        if one.match is not None and one.match.doubtful:
            warnings.append(f"{file.name} is only just matched: look at the result.")
    done()
    result = {
        "reference": reference.absolute(),
        "frames": frames,
        "crop": list(box),
        "warnings": warnings,
    }
    if options.json:
        print_json(result)
        return
    print(
        table(
            ("file", "model", "mirror", "scale", "angle", "stars", "rms px", "seen"),
            [
                (
                    Path(f["file"]).name,
                    f["model"],
                    "yes" if f["mirror"] else "no",
                    f["scale"],
                    f["angle_deg"],
                    f["matches"],
                    f["rms_px"],
                    f"{100 * f['coverage']:.0f} %",
                )
                for f in frames
            ],
        )
    )
    for warning in warnings:
        say(f"note: {warning}")


def _frame(file: Path, target: Path, one: Registered, resampled: Any) -> dict[str, Any]:
    m = one.match
    return {
        "file": file.absolute(),
        "out": target,
        "model": m.warp.model if m else "reference",
        "mirror": m.mirror if m else False,
        "scale": m.scale if m else 1.0,
        "angle_deg": m.angle_deg if m else 0.0,
        "matches": m.matches if m else None,
        "rms_px": m.rms_px if m else None,
        "score": m.score if m else None,
        "noise_factor": resampled.noise_factor,
        "sigma_ls_ratio": resampled.sigma_ls_ratio,
        "coverage": resampled.coverage,
    }


def _targets(folder: Path, files: list[Path]) -> list[Path]:
    """A name for each; files of one name from several folders are numbered."""
    out: list[Path] = []
    for file in files:
        stem = file.name
        for ending in (".gz", ".fz", ".fits", ".fit", ".fts", ".tif", ".tiff", ".png"):
            stem = stem[: -len(ending)] if stem.lower().endswith(ending) else stem
        place, number = folder / f"{stem}.fits", 2
        while place in out:
            place, number = folder / f"{stem}_{number}.fits", number + 1
        out.append(place)
    return out


def _same(one: Path, two: Path) -> bool:
    try:
        return one.samefile(two)
    except OSError:
        return one.absolute() == two.absolute()
