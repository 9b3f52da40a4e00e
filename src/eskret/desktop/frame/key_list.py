"""What the keys do, for whoever looks it up."""

from __future__ import annotations

FOR_THE_SEARCH = "Ctrl+Shift+Space"
"""As long as no other key was chosen for it."""

KEYS = (
    ("Ctrl+N, Ctrl+O, Ctrl+S", "new, open, save"),
    ("Ctrl+Z, Ctrl+Shift+Z", "undo, redo"),
    (FOR_THE_SEARCH, "find anything: what can be done, steps, layers, fields, parameters, pages"),
    ("Ctrl+E", "rehearse"),
    ("Ctrl+U", "update the figures, without writing anything"),
    ("Ctrl+R, Ctrl+Shift+R", "run, run in rounds"),
    ("Ctrl+Alt+R", "run everything again, also what is up to date"),
    ("Ctrl+.", "stop"),
    ("Insert", "add a step below the selected one"),
    ("Delete", "remove it"),
    ("Alt+Up, Alt+Down", "move it"),
    ("F2", "rename it"),
    ("Space", "switch it off or on"),
    ("Enter", "open it into its layers"),
    ("Alt+1 to Alt+4", "entering, leaving, set aside, altered"),
    ("Alt+Right, Alt+Left", "go to the next feature, the one before"),
    ("Ctrl+J", "follow what is chosen: where it came from, and what became of it"),
    ("Alt+PgDown, Alt+PgUp", "go on along its way, back"),
    ("F5", "what is on the map and how it is drawn"),
    ("F6, F7, Shift+F6", "map, table or settings over the whole lower half"),
    ("F8", "map over the whole window"),
    ("F9", "fold the sources away"),
    ("F3", "earlier runs"),
    ("Ctrl+L", "the selected step layer by layer"),
    ("Ctrl+P, Ctrl+Shift+P", "the workflow as Python beside the ledger, the Python pane"),
    ("F10, F11, F12", "the word lists, published datasets, parameters"),
    ("Ctrl+1 ... Ctrl+5", "go to sources, ledger, settings, map, table"),
    ("F4", "what the layer is and what its fields hold"),
    ("Arrow keys, +, -, 0, Esc", "on the map: pan, zoom, show all, let go of the feature"),
    ("B, L", "on the map: choose by a box, by a lasso"),
    ("M, Shift+M", "on the map: measure a distance, an area"),
    ("Ctrl+A, Ctrl+Shift+I", "choose all, invert"),
    ("Ctrl+K, Ctrl+Shift+K", "keep what is chosen, as a condition"),
    ("Ctrl+I", "put it into a layer of its own"),
)
