"""What the site has beside the documents: the notebook and the changes as pages, and links that lead out of the folder."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

from mkdocs.structure.files import File, Files

ROOT = Path(__file__).parent.parent
FONTS = ROOT / "src" / "eskret" / "desktop" / "resources" / "fonts"
NOTEBOOK = "notebooks/a-quarter-in-python.ipynb"


def on_files(files: Files, config: Any) -> Files:
    """Adds pages that are made of other files."""
    made = {
        "notebook.md": notebook_page((ROOT / "docs" / NOTEBOOK).read_text()),
        "changes.md": (ROOT / "CHANGELOG.md").read_text().replace("# Changelog", "# Changes", 1),
        "handbook.md": "# The handbook\n\nEvery operation with its settings and a drawing: [open it](handbook/index.html).\n",
    }
    for name, text in made.items():
        files.append(File.generated(config, name, content=text))
    for font in ("Archivo-Regular.ttf", "Archivo-SemiBold.ttf"):
        files.append(File.generated(config, f"fonts/{font}", abs_src_path=str(FONTS / font)))
    return files


def on_page_markdown(markdown: str, page: Any, config: Any, files: Files) -> str:
    """Leads links to files that are no part of the site to the pages made of them, or leaves their words."""
    out = markdown.replace("](docs/", "](").replace(f"]({NOTEBOOK})", "](notebook.md)").replace("](../CHANGELOG.md)", "](changes.md)")
    return re.sub(r"\[([^\]]+)\]\(\.\./[^)]+\)", r"\1", out)


def notebook_page(text: str) -> str:
    """A notebook as a page: its words, its code, and what came of it."""
    parts = []
    for cell in json.loads(text)["cells"]:
        source = "".join(cell["source"])
        parts.append(source if cell["cell_type"] == "markdown" else f"```python\n{source}\n```")
        parts += [shown for output in cell.get("outputs", ()) if (shown := _output(output))]
    return "\n\n".join(parts) + "\n"


def _output(output: dict[str, Any]) -> str:
    data = output.get("data", {})
    if "text/html" in data:
        return f'<div class="came">{"".join(data["text/html"])}</div>'
    plain = "".join(data.get("text/plain", output.get("text", "")))
    return f"```text\n{plain.rstrip()}\n```" if plain.strip() else ""
