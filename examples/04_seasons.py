"""
Through the seasons
===================

A well that pumps in summer beside a stream: flow through three years, from a site described in Python.
"""

import numpy as np
import shapely
from matplotlib.figure import Figure

import inkhorn as ik

boundary = shapely.box(0, 0, 2000, 1500)
stream = ik.River(
    name="stream",
    shape=shapely.LineString([(150, 0), (260, 700), (200, 1500)]),
    stage=(18.0, 17.0),
    bed=16.0,
    conductance=6.0,
)
months = np.arange("2021-01", "2024-01", dtype="datetime64[M]")
summer = np.isin(months.astype(int) % 12, (4, 5, 6, 7))
rain = 0.5e-3 * (1.0 + np.cos(2 * np.pi * (months.astype(int) % 12) / 12))
features = [
    stream,
    ik.Recharge(name="rain", shape=boundary, rate=ik.Series(months.astype("datetime64[s]"), rain)),
    ik.Well(
        name="garden",
        x=400.0,
        y=750.0,
        screen_top=8.0,
        screen_bottom=0.0,
        abstraction=ik.Series(months.astype("datetime64[s]"), np.where(summer, 1200.0, 100.0)),
    ),
]
sand = ik.Material("sand", 15.0, vertical_ratio=5.0, specific_storage=1e-5, specific_yield=0.18)
strata = ik.Strata(ik.ConstantSurface(22.0), (ik.Layer("sand", ik.ConstantSurface(0.0)),))
days = ik.Schedule([0.0, 1095.0], "2021-01-01", steady=[True, False], steps=[1, 2])
schedule = days.split_at([features[1].rate, features[2].abstraction])
site = ik.Site(boundary, strata, {"sand": sand}, features=tuple(features), schedule=schedule, name="Seasons")

mesh = ik.split_in_four(boundary, cell=100, near=[([features[2]], 12.5), ([stream], 50.0)])
model = ik.place(site, mesh)
flow = ik.solve_flow(model)

budgets = flow.budgets()
worst = budgets["closing error [%]"].abs().max()
print(f"{len(schedule)} periods, {len(flow.steps)} steps; every budget closes to {worst:.0e} %")
levels = [float(flow.well_levels(step=k)["level [m]"].iloc[0]) for k in range(len(flow.steps))]
print(f"the well's water stands between {min(levels):.2f} and {max(levels):.2f} m")
river = budgets[budgets["term"] == "river"].set_index("end [day]")["in [m³/day]"]
print(f"the stream loses up to {river.max():.0f} m³/day to the aquifer, on day {river.idxmax():.0f}")

figure = Figure(figsize=(12.8, 6.0), layout="constrained")
left, right = figure.subplots(1, 2)
ik.draw.heads(flow, "sand", step=int(np.argmin(levels)), ax=left)
right.plot([schedule.date(s.end) for s in flow.steps], levels, lw=1.4, color="#2a6f97")
right.set_ylabel("water level in the well [m]")
right.tick_params(axis="x", rotation=30)
figure.savefig("04_seasons.png")
