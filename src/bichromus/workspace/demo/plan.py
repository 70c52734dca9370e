"""What the demo knows for planning: three stations, their rigs, narrow filters, and the invented
target.
"""

from __future__ import annotations

from typing import Final

from ...core.model.rig import FILTERS, RIGS, SITES
from ...core.simulate.demo import NEBULA, Demo
from ...core.simulate.galaxy import GalaxyRecipe
from ...core.simulate.scene import SceneRecipe
from ..library.things import BandThing, FilterThing, PlanState, RigThing, SiteThing, TargetThing

DEMO_DATE: Final = "2027-03-17"
_GALAXY_DATE: Final = "2027-08-28"
_SENSOR: Final = {"Ridge": (4144, 2822), "Balcony": (3840, 2160), "Shed": (5496, 3672)}
_HORIZON: Final = {
    "Ridge": (
        (0.0, 12.0),
        (70.0, 18.0),
        (130.0, 10.0),
        (200.0, 14.0),
        (260.0, 22.0),
        (310.0, 15.0),
    ),
    "Balcony": (
        (0.0, 25.0),
        (90.0, 20.0),
        (150.0, 18.0),
        (210.0, 30.0),
        (210.0, 60.0),
        (300.0, 60.0),
        (300.0, 30.0),
    ),
    "Shed": ((0.0, 10.0), (120.0, 25.0), (180.0, 30.0), (240.0, 12.0)),
}


def demo_target(demo: Demo) -> TargetThing:
    """The invented target of a demo."""
    if demo is NEBULA:
        shines, size = SceneRecipe(), (48.0, 35.0)
        rayleigh = {"Ha": shines.ha / 3, "O3": shines.o3 / 3, "S2": shines.s2 / 3}
    else:
        galaxy = GalaxyRecipe()
        size, rayleigh = galaxy.size_arcmin, {"Ha": galaxy.ha / 12}
    return TargetThing(
        name=demo.name,
        aliases=(demo.target,),
        ra=demo.ra_deg,
        dec=demo.dec_deg,
        size_arcmin=size,
        rayleigh=rayleigh,
        kind="emission" if demo is NEBULA else "galaxy",
        source="invented",
        demo=True,
    )


def demo_plan(demo: Demo = NEBULA) -> PlanState:
    """A demo's things, with Ridge and its rig chosen."""
    sites = tuple(
        SiteThing(
            name=s.name,
            lat=s.latitude_deg,
            lon=s.longitude_deg,
            elevation_m=s.elevation_m,
            time_zone="Pacific/Auckland",
            sky_mag=s.sky_mag,
            horizon=_HORIZON[s.name],
            demo=True,
        )
        for s in SITES.values()
    )
    shot = ("Ha", "O3", "S2", "R", "G", "B") if demo is NEBULA else ("L", "R", "G", "B", "Ha")
    duals = ("Ha+O3", "O3+S2")
    rigs = tuple(
        RigThing(
            name=f"{station}, {r.name}",
            aperture_mm=r.aperture_mm,
            focal_mm=r.focal_mm,
            pixel_um=r.pixel_um,
            sensor_px=_SENSOR[station],
            obstruction=r.obstruction,
            throughput=r.throughput,
            quantum_efficiency=r.quantum_efficiency,
            read_noise_e=r.read_noise_e,
            full_well_e=r.full_well_e,
            dark_e_s=r.dark_e_s,
            fwhm_arcsec=r.fwhm_arcsec,
            colour=r.colour,
            site=station,
            filters=duals if r.colour else shot,
            demo=True,
        )
        for station, r in RIGS.items()
    )
    filters = tuple(
        FilterThing(
            name=n,
            bands=tuple(
                BandThing(
                    channel=c,
                    width_nm=FILTERS[n].width_nm / len(FILTERS[n].lines),
                    transmission=FILTERS[n].transmission,
                )
                for c in FILTERS[n].lines
            ),
            demo=True,
        )
        for n in (*shot, *duals)
    )
    target = demo_target(demo)
    return PlanState(
        sites=sites,
        rigs=rigs,
        filters=filters,
        targets=(target,),
        site=sites[0].name,
        rig=rigs[0].name,
        target=target.name,
        date=DEMO_DATE if demo is NEBULA else _GALAXY_DATE,
        fixed_clock=True,
        camera_angle=24.0 if demo is NEBULA else 0.0,
    )
