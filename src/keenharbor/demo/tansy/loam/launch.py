"""loam: runs a script with what this version of the language offers. Installed as launch.py beside a lib/ folder."""

import runpy
import sys
from pathlib import Path

here = Path(__file__).resolve().parent
sys.path.insert(0, str(here / "lib"))
# The database drivers that the host offers to scripts stand in folders of its own.
if (here / "drivers.txt").exists():
    sys.path += (here / "drivers.txt").read_text().splitlines()
import loam

arguments = sys.argv[1:]
if not arguments or arguments[0] == "--version":
    print("loam " + ".".join(str(part) for part in loam.VERSION))
    raise SystemExit(0 if arguments else 2)
script = Path(arguments[0]).resolve()
if not script.is_file():
    print(f"loam: there is no script {script}", file=sys.stderr)
    raise SystemExit(2)
sys.argv = arguments
sys.path.insert(0, str(script.parent))
runpy.run_path(str(script), run_name="__main__")
