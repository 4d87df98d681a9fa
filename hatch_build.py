"""Compiles the kernels (src/chaff/kernels/*.pyx) when a wheel is built or the checkout is installed as editable.

A machine without a C compiler gets one from a wheel (ziglang), only while building. By hand: python hatch_build.py
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import sysconfig
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

KERNELS = Path("src") / "chaff" / "kernels"
SHARED = "chaff.kernels.memoryviews"  # what every kernel needs of memoryviews, compiled once
DIRECTIVES = {"language_level": 3, "boundscheck": False, "wraparound": False, "cdivision": True, "initializedcheck": False}
# No fused multiply and add, no reordering: the same bits from every compiler.
FLAGS = ["-O3", "-ffp-contract=off", "-fno-math-errno", "-fno-trapping-math", "-g0", "-w"]


def compiler_found() -> bool:
    """Whether the compiler of this Python, or the one that CC names, is there."""
    named = os.environ.get("CC") or sysconfig.get_config_var("CC") or "cc"
    return shutil.which(named.split()[0]) is not None


class KernelHook(BuildHookInterface):  # type: ignore[type-arg]
    def dependencies(self) -> list[str]:
        return ["Cython>=3.2", "setuptools>=77", *([] if compiler_found() else ["ziglang"])]

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        compile_kernels(Path(self.root))
        build_data["pure_python"] = False
        build_data["infer_tag"] = True
        build_data["artifacts"] += [f"/{KERNELS.as_posix()}/*{suffix}" for suffix in (".so", ".pyd")]


def compile_kernels(root: Path) -> None:
    """Machine code of every kernel beside its source, where the source is newer."""
    from Cython.Build import cythonize
    from setuptools import Distribution, Extension

    if not compiler_found():
        os.environ["CC"] = f"{sys.executable} -m ziglang cc"
        os.environ["LDSHARED"] = f"{sys.executable} -m ziglang cc -shared"
    before, made = Path.cwd(), Path("build") / "kernels"
    os.chdir(root)
    try:
        shared = made / "memoryviews.c"
        if not shared.exists():
            made.mkdir(parents=True, exist_ok=True)
            subprocess.run([sys.executable, "-m", "cython", "-3", f"--generate-shared={shared}"], check=True)
        sources = [Extension(f"chaff.kernels.{p.stem}", [str(p)], extra_compile_args=FLAGS) for p in sorted(KERNELS.glob("*.pyx"))]
        parts = cythonize(
            sources, build_dir=str(made), nthreads=2, quiet=True, compiler_directives=DIRECTIVES, shared_utility_qualified_name=SHARED
        )
        parts.append(Extension(SHARED, [str(shared)], extra_compile_args=FLAGS))
        command = Distribution({"ext_modules": parts, "package_dir": {"": "src"}}).get_command_obj("build_ext")
        command.inplace, command.parallel, command.build_temp = True, 2, str(made)
        command.ensure_finalized()
        command.run()
    finally:
        os.chdir(before)


if __name__ == "__main__":
    compile_kernels(Path(__file__).parent)
