"""
A fit, and what it does not know
================================

Conductivities of two layers and the rain, from levels in bores and the gain of a stream; with their limits.
"""

import numpy as np
import shapely
from matplotlib.figure import Figure

import inkhorn as ik

# %%
# A site whose truth is known: levels are computed with it, and read with an error of 3 cm.

rng = np.random.default_rng(11)
outline = shapely.box(0, 0, 2000, 1500)
features = (
    ik.River(
        name="stream",
        shape=shapely.LineString([(100, 0), (180, 700), (120, 1500)]),
        stage=(20.0, 19.0),
        bed=18.0,
        conductance=20.0,
    ),
    ik.Recharge(name="rain", shape=outline, rate="250 mm/year"),
    ik.Well(name="well", x=1200.0, y=700.0, screen_top=6.0, screen_bottom=1.0, abstraction=900.0),
)
strata = ik.Strata(
    ik.ConstantSurface(30.0),
    (ik.Layer("sand", ik.ConstantSurface(12.0)), ik.Layer("gravel", ik.ConstantSurface(0.0))),
)
mesh = ik.rectangles(outline, cell=50)


def model_with(sand, gravel):
    ground = {
        "sand": ik.Material("sand", sand, vertical_ratio=10.0),
        "gravel": ik.Material("gravel", gravel, vertical_ratio=5.0),
    }
    return ik.place(ik.Site(outline, strata, ground, features=features, bores=bores, name="Two layers"), mesh)


bores = ()
truth = ik.solve_flow(model_with(6.0, 35.0))
places = rng.uniform((300, 100), (1900, 1400), (24, 2))
bores = []
for k, (x, y) in enumerate(places):
    layer = ("sand", "gravel")[k % 2]
    head = float(truth.steps[-1].heads[truth.model.grid.cell_number[k % 2, mesh.locate([x], [y])[0]]])
    read = [head + rng.normal(0, 0.03)]
    day = np.array(["2025-06-01"], dtype="datetime64[s]")
    bores.append(ik.Bore(f"B{k:02}", x, y, layer, dates=day, levels=read))
bores = tuple(bores)

# %%
# The fit begins with wrong values. Levels alone cannot tell conductivities from rain; the gain of the stream can.

gain = float(truth.budget(by="feature").query("feature == 'stream'")["out [m³/day]"].iloc[0])
model = model_with(15.0, 15.0)
readings = ik.observe(
    model,
    None,
    [ik.Measurement(name="gain", gain_of=["stream"], values=[gain], deviation=0.03 * gain)],
    rules=[ik.WeightRule(groups=("levels",), deviation=0.03)],
)
parameters = [ik.Parameter(name=n, of="conductivity", how="set", layers=[n]) for n in ("sand", "gravel")]
parameters.append(ik.Parameter(name="rain", of="recharge.rate", lower=0.3, upper=3.0))
fit = ik.calibrate(model, parameters, observations=readings)
print(
    fit.table().to_string(), fit.statistics(before=True), fit.statistics(), *fit.knowledge.words(), sep="\n"
)

figure = Figure(figsize=(12.8, 5.4), layout="constrained")
ik.draw.what_readings_tell(fit.knowledge, figure)
figure.savefig("07_fit.png")
