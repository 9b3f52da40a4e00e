from __future__ import annotations
import sys, tempfile
from pathlib import Path
from tests.fidelity import cases, trial
def main() -> None:
    folder = Path(tempfile.mkdtemp())
    only = sys.argv[1:] or trial.ENDINGS
    for ending in only:
        base = set()
        for shape in ("points", "lines", "areas"):
            for name, nulls, layer in cases.of_shapes():
                if name == shape and nulls == "no nulls":
                    s = trial.through(folder, layer, ending); base |= {*s.foretold, *s.after}
        for kind, all_ in (("v", cases.of_values()), ("s", cases.of_shapes())):
            for name, nulls, layer in all_:
                try: s = trial.through(folder, layer, ending)
                except Exception as e: s = trial.Seen("CRASH", repr(e)[:200])
                said = [t for t in (*s.foretold, *s.after) if t not in base]
                what = s.what
                if what == trial.TOLD and not said: what = trial.UNTOLD
                if what in ("UNTOLD", "FAULT", "CRASH"):
                    print(f"{ending:9} {what:7} {name} | {nulls} | {s.differs[:170]} | {said[:1]}", flush=True)
if __name__ == "__main__": main()
