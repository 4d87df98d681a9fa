"""The site: `make site` builds docs/_site, to be read from disk without a network."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE))

import chaff.plots.drawn_on as drawn_on  # noqa: E402
from chaff.version import __version__  # noqa: E402

project, author, release = "Chaff", "the Chaff authors", __version__
copyright = "2026, the Chaff authors"
extensions = [
    "myst_parser", "numpydoc", "sphinx.ext.autodoc", "sphinx.ext.autosummary", "sphinx_copybutton", "sphinx_design",
    "sphinx_gallery.gen_gallery",
]  # fmt: skip
myst_enable_extensions = ["colon_fence"]
myst_heading_anchors = 3
exclude_patterns = ["_site", "_made", "gallery/*.py", "gallery/*.ipynb", "gallery/GALLERY_HEADER.rst", "README.md"]
html_theme = "pydata_sphinx_theme"
html_title = "Chaff"
html_theme_options = {
    "show_toc_level": 2,
    "navbar_align": "left",
    "navbar_end": ["theme-switcher"],
    "secondary_sidebar_items": ["page-toc"],
    "show_prev_next": True,
    "footer_start": ["copyright"],
    "footer_end": [],
}
html_show_sourcelink = False
html_static_path: list[str] = []
autosummary_generate = True
autodoc_typehints = "none"
numpydoc_show_class_members = False
numpydoc_xref_param_type = False
copybutton_prompt_text = "$ "
smartquotes = False
highlight_language = "text"
nitpicky = False
suppress_warnings = ["myst.xref_missing", "config.cache"]
drawn: list[Any] = []


def _recorded(make: Any) -> Any:
    """What makes a place to draw, with its figure noted for the gallery."""

    def made(width: float) -> Any:
        place = make(width)
        drawn.append(getattr(place, "figure", place))
        return place

    return made


def chaff_figures(block: Any, block_vars: Any, gallery_conf: Any) -> str:
    """The figures that a block of an example has drawn, as pictures below it."""
    from sphinx_gallery.scrapers import figure_rst

    paths = []
    for figure, path in zip(drawn, block_vars["image_path_iterator"], strict=False):
        figure.savefig(path, dpi=90)
        paths.append(path)
    drawn.clear()
    return str(figure_rst(paths, gallery_conf["src_dir"]))


drawn_on.NEW = {place: _recorded(make) for place, make in drawn_on.NEW.items()}
sphinx_gallery_conf = {
    "examples_dirs": "../examples",
    "gallery_dirs": "gallery",
    "filename_pattern": r"\.py$",
    "download_all_examples": False,
    "show_memory": False,
    "remove_config_comments": True,
    "plot_gallery": os.environ.get("CHAFF_GALLERY", "True") == "True",
    "capture_repr": (),
    "image_scrapers": (chaff_figures,),
    "show_signature": False,
    "matplotlib_animations": False,
    "within_subsection_order": "ExampleTitleSortKey",
}
os.environ["COLUMNS"] = "70"
COMMANDS = {
    "screen": "screen lots.csv --target loaf_volume --ignore accepted --ignore grade --groups mill",
    "select": "select lots.csv --target loaf_volume --ignore accepted --ignore grade --groups mill --out chosen --no-state",
    "codes": "help codes",
}


def made(folder: Path) -> None:
    """What commands of the pages answer, run when the site is built."""
    import chaff

    folder.mkdir(exist_ok=True)
    chaff.demo.lots().to_csv(folder / "lots.csv", index=False)
    shutil.rmtree(folder / "chosen", ignore_errors=True)
    for name, words in COMMANDS.items():
        done = subprocess.run([sys.executable, "-m", "chaff", *words.split()], cwd=folder, capture_output=True, text=True, check=True)
        (folder / f"{name}.txt").write_text(done.stdout, encoding="utf-8")


made(HERE / "_made")


def bars_escaped(app: object, what: str, name: str, thing: object, options: object, lines: list[str]) -> None:
    """`|r|` in a docstring is a figure, and no substitution."""
    lines[:] = [line if line.lstrip().startswith((">>>", "...")) else re.sub(r"\|([\w ]+)\|", r"\\|\1\\|", line) for line in lines]


def setup(app: Any) -> None:
    app.connect("autodoc-process-docstring", bars_escaped, priority=900)
