"""How the product is built: the direction of imports, public faces, and documents that keep up with the code."""

from __future__ import annotations

import ast
import os
import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

from faithful_ledger.cli.main import ABOUT
from faithful_ledger.core.address.expressions import FUNCTIONS
from faithful_ledger.core.layers import LAYERS
from faithful_ledger.core.seals import ALGORITHMS
from faithful_ledger.core.template.loader import parse_template
from faithful_ledger.core.template.schema import all_keys
from tests.support import LedgerCase

ROOT = Path(__file__).parents[2]
SOURCE = ROOT / "src"
CORE = SOURCE / "faithful_ledger" / "core"

# Each room may use those before it in its line, never one behind it.
ORDER = [
    "errors", "clock", "bit_order", "suggest", "budget", "collecting", "deadline", "threads", "disk", "source", "peek", "find", "scan", "own_letters", "storage", "address", "edits", "layers", "formats", "profile", "wrapping", "unlocking", "hidden_strings", "listed_parts", "masked_numbers", "inside", "nesting", "locks", "search", "seals", "in_front", "seal_parts", "seal_values", "placed_seals", "listed_sizes", "hashed_values", "joined_values", "unexplained", "seal_search", "template",
    "binding.nodes", "binding.limits", "binding.lookup", "binding.sizes", "binding.resume", "binding.spans", "binding.binder", "binding.compose", "binding.held", "binding.files", "binding.followers", "binding.unmoved", "binding.padding", "binding.settle", "rules", "balance", "compare", "evidence",
    "template.keyed_records", "template.extend", "entries", "save", "free_values", "seal_list", "pinned", "refused", "arranging", "outline", "opening", "describe", "typed_bytes", "unwrapping", "pending", "goto", "vault", "posting", "carry", "records", "manifests", "identity", "keeping", "taking_in", "pinning", "sealing_rules", "sealing", "described", "history", "carried", "book", "sharing", "bundle", "together", "shelf", "books",
]  # fmt: skip


def imports_of(path: Path) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
        elif isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
    return found


def room_of(module: str) -> int | None:
    """The place of a core module in the order; None for the faces of whole packages."""
    inside = module.removeprefix("faithful_ledger.core.")
    places = [n for n, room in enumerate(ORDER) if inside == room or inside.startswith(room + ".")]
    return max(places) if places else None


class DirectionTest(LedgerCase):
    def test_imports_run_one_way(self) -> None:
        for path in CORE.rglob("*.py"):
            module = ".".join(path.relative_to(SOURCE).with_suffix("").parts).removesuffix(".__init__")
            place = room_of(module)
            for used in imports_of(path):
                with self.subTest(module=module, used=used):
                    self.assertNotRegex(used, r"^(PySide6|rich|brinewick|faithful_ledger\.(desk|cli|demo))")
                    other = room_of(used) if used.startswith("faithful_ledger.core.") else None
                    if place is not None and other is not None and path.name != "__init__.py":
                        self.assertLessEqual(other, place)

    def test_every_room_has_a_place_in_the_order(self) -> None:
        for path in CORE.rglob("*.py"):
            module = ".".join(path.relative_to(SOURCE).with_suffix("").parts)
            if path.name != "__init__.py":
                self.assertIsNotNone(room_of(module), module)

    def test_the_core_works_without_the_window(self) -> None:
        code = """
import sys
sys.modules["PySide6"] = None
import pkgutil, importlib, faithful_ledger.core as core
for found in pkgutil.walk_packages(core.__path__, "faithful_ledger.core."):
    importlib.import_module(found.name)
"""
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_the_game_and_the_product_know_nothing_of_each_other(self) -> None:
        for path in (SOURCE / "brinewick").glob("*.py"):
            self.assertFalse([name for name in imports_of(path) if name.startswith("faithful_ledger")], path)
        for folder in ("core", "desk", "cli"):
            for path in (SOURCE / "faithful_ledger" / folder).rglob("*.py"):
                self.assertFalse([name for name in imports_of(path) if name.startswith("brinewick")], path)

    def test_stages_and_widgets_know_their_place(self) -> None:
        desk = SOURCE / "faithful_ledger" / "desk"
        for path in (desk / "widgets").glob("*.py"):
            used = imports_of(path)
            self.assertFalse([name for name in used if ".stages" in name or name.endswith("shell")], path)

    def test_version_and_help_load_nothing_heavy(self) -> None:
        code = (
            "import sys; from faithful_ledger.cli.main import main; main(['--help']); "
            "heavy = {'numpy', 'PySide6', 'pydantic', 'ruamel.yaml', 'rich', 'sqlite3', 'psutil'}; "
            "print(sorted(set(sys.modules) & heavy))"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout.splitlines()[-1], "[]")

    def test_the_window_begins_without_arrays_and_without_stages(self) -> None:
        code = (
            "import sys; import faithful_ledger.desk.application; stages = 'faithful_ledger.desk.stages.'; "
            "early = [name for name in sys.modules if name.startswith(stages) and name != stages + 'welcome']; "
            "print(early, 'numpy' in sys.modules)"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout.splitlines()[-1], "[] False")

    def test_public_names_are_listed_sorted_and_exist(self) -> None:
        for path in [*CORE.rglob("*.py"), *(SOURCE / "faithful_ledger" / "desk").rglob("*.py")]:
            tree = ast.parse(path.read_text("utf-8"))
            listed = [
                ast.literal_eval(node.value)
                for node in tree.body
                if isinstance(node, ast.Assign) and getattr(node.targets[0], "id", "") == "__all__"
            ]
            if not listed:
                self.assertEqual(path.name, "__init__.py", path)
                continue
            with self.subTest(path=path.name):
                names = {
                    name
                    for node in tree.body
                    for name in (
                        [node.name]
                        if isinstance(node, ast.ClassDef | ast.FunctionDef)
                        else [alias.asname or alias.name for alias in node.names]
                        if isinstance(node, ast.ImportFrom)
                        else [
                            name.id
                            for target in node.targets
                            for name in ast.walk(target)
                            if isinstance(name, ast.Name)
                        ]
                        if isinstance(node, ast.Assign)
                        else [getattr(node.target, "id", "")]
                        if isinstance(node, ast.AnnAssign)
                        else []
                    )
                }
                self.assertLessEqual(set(listed[0]), names)


class DocumentsTest(LedgerCase):
    def test_every_key_of_the_language_is_explained_with_an_example(self) -> None:
        text = (ROOT / "docs" / "template-language.md").read_text("utf-8")
        sections = dict(re.findall(r"^## .*?`(\w+)`.*?\n(.*?)(?=^## |\Z)", text, re.MULTILINE | re.DOTALL))
        for part, keys in all_keys().items():
            self.assertIn(part, sections, f"a section for {part}")
            for key in keys:
                with self.subTest(part=part, key=key):
                    self.assertRegex(sections[part], rf"\n\| `{key}` \| .+ \| `.+` \|")
        for name in (*ALGORITHMS, *FUNCTIONS):
            self.assertIn(f"`{name}`", text)
        kinds = re.search(r"^## Kinds of layers\n(.*?)^## ", text, re.MULTILINE | re.DOTALL)
        assert kinds is not None
        named = " ".join(re.findall(r"^\| `(.+?)` \|", kinds[1], re.MULTILINE)).split()
        self.assertEqual(sorted(named), sorted(LAYERS))

    def test_the_examples_of_the_language_are_templates(self) -> None:
        text = (ROOT / "docs" / "template-language.md").read_text("utf-8")
        examples = re.findall(r"```yaml\n(.*?)```", text, re.DOTALL)
        self.assertGreaterEqual(len(examples), 2)
        for example in examples:
            with self.subTest(example=example[:60]):
                if example.startswith("- "):  # a part of a layout
                    layout = "".join(f"      {line}\n" for line in example.splitlines())
                    example = f"ledger: 1\nid: x\ntitle: X\nfiles:\n  a:\n    name: a\n    layout:\n{layout}"
                self.assertTrue(parse_template(example.encode(), "example.yaml").files)

    def test_the_readme_names_every_command_and_its_pictures_exist(self) -> None:
        text = (ROOT / "README.md").read_text("utf-8")
        for command in ABOUT:
            self.assertRegex(text, rf"`faithful-ledger {command}|`{command}`")
        pictures = re.findall(r"\((docs/screenshots/[\w-]+\.png)\)", text)
        self.assertGreaterEqual(len(pictures), 5)
        for picture in [*pictures, *(str(p.relative_to(ROOT)) for p in (ROOT / "docs/screenshots").glob("*.png"))]:
            self.assertTrue((ROOT / picture).is_file(), picture)
            self.assertIn(picture, text)

    def test_the_guide_works_as_it_is_written(self) -> None:
        text = (ROOT / "docs" / "guide.md").read_text("utf-8")
        commands = re.findall(r"^    (.+)$", text, re.MULTILINE)
        self.assertGreater(len(commands), 10)
        game, ours = "", 0
        for line in commands:
            line = line.replace("/tmp/", f"{self.folder}/")
            if line.startswith("B="):
                game = line[3:-1]
                continue
            words = shlex.split(line.replace("$B", game))
            words[0] = sys.executable if words[0].endswith("python") else words[0]
            if words[0].endswith("faithful-ledger"):
                words[:1] = [sys.executable, "-m", "faithful_ledger"]
                words += ["--for", "0.2"] if "watch" in words else []
                ours += 1
            environment = os.environ | {"XDG_DATA_HOME": str(self.folder), "XDG_CACHE_HOME": str(self.folder)}
            done = subprocess.run(words, capture_output=True, text=True, check=False, env=environment)
            with self.subTest(line=line):
                self.assertIn(done.returncode, (0, 1), done.stderr)
                self.assertEqual(done.stderr, "")
            if "locate" in words:
                self.assertIn("3 of 3", done.stdout)
                self.assertIn("inside 2 zstd streams", " ".join(done.stdout.replace("│", " ").split()))
        self.assertGreaterEqual(ours, 5)

    def test_links_between_documents_lead_somewhere(self) -> None:
        for path in [ROOT / "README.md", *(ROOT / "docs").rglob("*.md")]:
            for target in re.findall(r"\]\(([^)#:]+)(?:#[\w-]+)?\)", path.read_text("utf-8")):
                self.assertTrue((path.parent / target).exists(), f"{path.name}: {target}")


class SetUpTest(LedgerCase):
    """`./demo` and `./test` on a machine without Python."""

    TOOLS = ("bash", "cat", "id", "sha256sum", "dirname", "ln", "rm")

    def find_python(self, apt: str, user: int) -> tuple[int, str, str, str]:
        """What the set-up's first step answers, says, and asks apt for, on a machine with few programs."""
        machine = self.folder / "bin"
        machine.mkdir()
        for tool in self.TOOLS:
            (machine / tool).symlink_to(shutil.which(tool) or "")
        log = self.folder / "apt.log"
        log.touch()
        for name, text in (("apt-get", f'echo "$@" >> {log}\n{apt}'), ("id", f"echo {user}")):
            (machine / name).unlink(missing_ok=True)
            (machine / name).write_text(f"#!{shutil.which('bash')}\n{text}\n")
            (machine / name).chmod(0o755)
        code = f". {ROOT / 'scripts' / 'prepare.sh'}; find_python"
        done = subprocess.run(
            [shutil.which("bash") or "bash", "-c", code],
            env={"PATH": str(machine)},
            capture_output=True,
            text=True,
            check=False,
        )
        return done.returncode, done.stdout.strip(), done.stderr, log.read_text()

    def test_as_root_it_is_installed_before_anything_else(self) -> None:
        apt = f'case "$*" in *install*) ln -s {sys.executable} {self.folder}/bin/python3;; esac'
        status, found, said, asked = self.find_python(apt, 0)
        self.assertEqual((status, found), (0, "python3"), said)
        self.assertIn("install -y -qq python3 python3-venv", asked)

    def test_otherwise_one_clear_sentence_says_what_to_run(self) -> None:
        status, found, said, asked = self.find_python("exit 1", 1000)
        self.assertEqual((status, found, asked), (1, "", ""))
        self.assertEqual(
            said,
            "Faithful Ledger needs Python 3.11 or newer, and this machine has no Python. Nothing was installed.\n"
            "Run this once, then try again:\n    sudo apt-get install -y python3 python3-venv\n",
        )
