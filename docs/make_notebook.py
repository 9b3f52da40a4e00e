"""Do the notebook of docs/notebooks anew in a fresh demo, with what its cells show; run it with ``make handbook``."""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

import nbformat
from nbclient import NotebookClient

from eskret.demo.generate import make

FILE = Path(__file__).parent / "notebooks" / "a-quarter-in-python.ipynb"

CELLS = [
    """# A quarter in Python

The same job as in the window, on the demo's data: `eskret demo` lays it out, and this notebook runs in its folder. A layer is read,
looked at, worked on, and handed on as a GeoDataFrame; then a whole workflow is built, rehearsed and run, with its ledger.""",
    """%from eskret import Workflow, read, use

beds = read("register/register.gpkg", "lease_beds")
beds""",
    """## One operation

`use` calls an operation straight on a layer or a GeoDataFrame. What was set aside is there as a frame, each row with its reason.""",
    """%kept = use("keep")(beds, where="worked AND tonnes > 20")
kept""",
    """%kept.set_aside()[["lease", "holder", "tonnes", "worked", "reason"]].head()""",
    """A second layer is given by place or by name; a GeoDataFrame will do as well.""",
    """%import geopandas

districts = geopandas.read_file("register/register.gpkg", layer="districts")
inside = use("clip")(kept.layer, districts[districts.name == "North"])
inside.to_geopandas().area.sum() / 10_000  # hectares""",
    """Several layers that leave are a mapping.""",
    """%{name: len(part) for name, part in use("split")(beds, by="district").items()}""",
    """## A workflow

Every operation is a method, with its settings as arguments; a mistake is told where it is made.""",
    """%try:
    Workflow().keep("some", "beds", wher="tonnes > 20")
except Exception as error:
    print(error)""",
    """%workflow = Workflow(title="What each licence holds", crs="EPSG:32626")
least = workflow.parameter("least", type="number", default=20)
loaded = workflow.load("register", files=["register/register.gpkg"])
worked = workflow.keep("worked", loaded["lease_beds"], where="worked AND tonnes >= $least")
held = workflow.dissolve("held", worked, by=["licence"], figures={"tonnes": "sum tonnes", "beds": "count"})
workflow.save("handed_over", held, to="licences.gpkg")
workflow.rehearse(least=30)""",
    """%result = workflow.run(least=30, record=False)
result""",
    """%result["held"].to_geopandas().sort_values("tonnes", ascending=False)[["licence", "tonnes", "beds"]].head()""",
    """Every step has what it made and what it set aside. The way of a feature goes back to the records that it came of.""",
    """%result["worked"].reasons()""",
    """%way = workflow.follow("held", "licence = 'L03'", values={"least": 30}).frame()
way[["step", "layer", "row"]].drop_duplicates().head(8)""",
]


def notebook() -> nbformat.NotebookNode:
    """The notebook, not done yet."""
    made = nbformat.v4.new_notebook()
    for number, text in enumerate(CELLS):
        cell = nbformat.v4.new_code_cell(text[1:].strip()) if text.startswith("%") else nbformat.v4.new_markdown_cell(text)
        cell["id"] = f"cell-{number}"
        made.cells.append(cell)
    made.metadata["kernelspec"] = {"name": "python3", "display_name": "Python 3", "language": "python"}
    return made


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        home = make(Path(folder) / "orrel-sound")
        made = notebook()
        NotebookClient(made, timeout=120, resources={"metadata": {"path": str(home)}}, record_timing=False).execute()
    made.metadata.pop("language_info", None)  # which Python it was is of no matter
    FILE.write_text(nbformat.writes(made, version=4) + "\n", encoding="utf-8")


if __name__ == "__main__":
    sys.exit(main())
