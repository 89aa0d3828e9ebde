"""
Quillmere, the whole of it
==========================

The Quillmere basin from Python: from the site's files to a fitted plume.

Give the folder of a Quillmere project, as `inkhorn demo` leaves one; it is made if it is not there.
"""

import sys
from pathlib import Path

import inkhorn as ik
from inkhorn.demo import write_demo

folder = Path(sys.argv[1] if len(sys.argv) > 1 else "quillmere")
path, _ = write_demo(folder)

# the site knows no cells; placing it on a grid makes a model
site = ik.read_site(path)
mesh = ik.rectangles(site.boundary, cell=125)
model = ik.place(site, mesh)
print(site, mesh, model.placed.to_string(), f"check: {ik.check(model)}", sep="\n")

# steady flow, water table where the head decides
flow = ik.solve_flow(model)
print(flow, flow.budget(by="layer"), sep="\n")
print("head in the gravel by the hatchery:", float(flow.head[-1].sel(layer="gravel").interp(x=3700, y=2900)))

# one conductivity per layer and the recharge, fitted to the mean levels in the bores
parameters = [
    ik.Parameter(name=layer, of="conductivity", how="set", layers=[layer]) for layer in site.strata.names
]
parameters.append(ik.Parameter(name="recharge", of="recharge.rate", lower=0.5, upper=2.0))
fit = ik.calibrate(model, parameters)
print(fit.table().to_string(), fit.statistics(before=True), fit.statistics(), sep="\n")
print("what the levels cannot tell:", *fit.knowledge.words(), sep="\n")

# how sure is the brook's gain, and which bore makes it so?
gain = ik.Measurement(name="gain of the brook", gain_of=["outflow brook"], values=[0.0])
ahead = ik.forecast(fit, ik.observe(fit.model, (), [gain], as_places=True))
print(ahead.table().to_string(), ahead.worth_of_readings().head().to_string(), sep="\n")

# where the hatchery's water comes from, and the chloride that comes with it
paths = ik.trace(fit.after, ["hatchery"], backward=True, mark=5 * 365.25)
plume = ik.solve_transport(
    fit.after,
    site.species[0],
    duration=60 * 365.25,
    step_length=182.625,
    dispersion=ik.Dispersion(20.0, 2.0, 0.2),
)
print(paths, plume, plume.at_well("hatchery"), sep="\n")
for name, ax in {
    "heads": ik.draw.heads(fit.after, "sand"),
    "section": ik.draw.section(fit.after, [(5050, 4050), (3700, 2900), (1300, 1300)], exaggeration=25),
    "fit": ik.draw.measured_against_computed(fit),
    "paths": ik.draw.paths(paths),
    "plume": ik.draw.plume(plume),
}.items():
    ax.figure.savefig(f"11_{name}.png")
