"""A pivot into a plot: revenue by quarter and department, drawn with matplotlib.

Run ``relatum demo`` first, then this beside the folder that it wrote: python examples/pivot_into_plot.py plot.png
"""

import sys

import matplotlib

matplotlib.use("Agg")  # no screen is needed

import matplotlib.pyplot as plt

import relatum

model = relatum.open("hollowmere/nursery.toml")
grid = model.pivot(
    rows="calendar.quarter",
    columns="category.department",
    values={"revenue": "revenue / 1000"},
    where="category.department is not null",
    totals=False,
)
frame = grid.to_pandas()

figure, axes = plt.subplots(figsize=(12.8, 8), layout="constrained")
colours = ["#3b7d4f", "#c98b2b", "#7fb069", "#3f7cac", "#6b4e71"]
bottom = 0
for department, colour in zip(frame.columns, colours, strict=True):
    heights = frame[department].astype(float)
    axes.bar(frame.index, heights, bottom=bottom, label=department, color=colour, width=0.72)
    bottom = bottom + heights
axes.set_title("Hollowmere: revenue by quarter and department", loc="left", fontsize=15)
axes.set_ylabel("thousand EUR")
axes.spines[["top", "right"]].set_visible(False)
axes.grid(axis="y", alpha=0.3)
axes.set_axisbelow(True)
handles, labels = axes.get_legend_handles_labels()
axes.legend(handles[::-1], labels[::-1], frameon=False, loc="upper left")
figure.savefig(sys.argv[1] if len(sys.argv) > 1 else "plot.png", dpi=100)
print(f"{frame.size} cells drawn")
