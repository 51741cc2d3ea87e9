"""Assembly files as plain data: YAML 1.2 with limits, so that no file can take the machine's time or memory.

What is read are mappings, lists, texts, numbers, truth values and nothing; tags of any other kind are refused, and
nothing that a file says is ever built, called or imported. Aliases and merges are expanded within a budget.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from hashlib import sha256
from pathlib import Path
from typing import Any

from holokine.describe.files import refuse_devices
from holokine.errors import DescriptionError

__all__ = ["DEEPEST", "YamlFile", "read_yaml"]

DEEPEST = 60
"""Levels of keys within keys."""
_LARGEST = 30_000_000  # bytes of a file
_BEYOND = 50_000  # entries that aliases and merges may add
_TIMES = 20  # or as many times the entries that are written
_TAG = "tag:yaml.org,2002:"
_PLAIN = {_TAG + kind for kind in ("str", "int", "float", "bool", "null", "timestamp")}
_MERGE = _TAG + "merge"
_CONTAINERS = {_TAG + "map", _TAG + "seq"}


@dataclass(frozen=True)
class YamlFile:
    """What stands in a file.

    Attributes
    ----------
    data : dict
        Plain data.
    lines : dict
        Line (from 1) of every entry by its path.
    digest : str
        SHA-256 of the file's bytes.
    """

    data: dict[str, Any]
    lines: dict[tuple[Any, ...], int]
    digest: str


def read_yaml(file: Path) -> YamlFile:
    """Read an assembly file as plain data.

    Raises
    ------
    DescriptionError
        Missing or unreadable, not YAML, nested too deep, expanded beyond all measure, or of tags of other kinds; with
        the line.
    """
    from ruamel.yaml import YAML
    from ruamel.yaml.composer import Composer
    from ruamel.yaml.error import MarkedYAMLError, YAMLError

    refuse_devices(file)
    try:
        if file.stat().st_size > _LARGEST:
            raise DescriptionError(
                f"{file}: is larger than {_LARGEST // 1_000_000} MB; keep meshes and records in files of their own"
            )
        content = file.read_bytes()
        text = content.decode("utf-8").replace("\r\n", "\n")
    except FileNotFoundError:
        raise DescriptionError(f"{file}: there is no such file") from None
    except (OSError, UnicodeDecodeError, ValueError) as err:
        raise DescriptionError(f"{file}: cannot be read as text ({err})") from None

    class Counted(Composer):
        """Counts entries, and levels so that none is too deep."""

        entries = level = 0

        def compose_node(self, parent: Any, index: Any) -> Any:
            self.entries += 1
            self.level += 1
            if self.level > DEEPEST:
                mark = self.parser.peek_event().start_mark
                raise MarkedYAMLError(problem=f"nested more than {DEEPEST} deep", problem_mark=mark)
            node = super().compose_node(parent, index)
            self.level -= 1
            return node

    try:
        yaml = YAML(typ="safe", pure=True)
        yaml.Composer = Counted
        root = yaml.compose(text)
        plain = _Plain(yaml.constructor, _TIMES * yaml.composer.entries + _BEYOND)
        data = None if root is None else plain.of(root, ())
    except MarkedYAMLError as err:
        mark = err.problem_mark or err.context_mark
        line = f", line {mark.line + 1}" if mark else ""
        problem = (err.problem or err.context or "not valid YAML").strip().split("\n")[0]
        raise DescriptionError(f"{file.name}{line}: not valid YAML: {problem}") from None
    except (YAMLError, ValueError, OverflowError) as err:
        first = str(err).strip().split("\n")[0]
        raise DescriptionError(f"{file.name}: not valid YAML: {first}") from None
    if not isinstance(data, dict):
        raise DescriptionError(f"{file.name}: expected keys and values (holokine: 1, parts: ...)")
    return YamlFile(data, plain.lines, sha256(content).hexdigest())


@dataclass
class _Plain:
    """Plain data of composed nodes, and the line of every entry."""

    constructor: Any
    left: int
    lines: dict[tuple[Any, ...], int] = field(default_factory=dict)

    def of(self, node: Any, path: tuple[Any, ...]) -> Any:
        from ruamel.yaml.nodes import MappingNode, ScalarNode

        self._spend(node)
        if len(path) > DEEPEST:
            self._refuse(node, f"nested more than {DEEPEST} deep")
        if isinstance(node, ScalarNode):
            return self._scalar(node)
        if str(node.tag) not in _CONTAINERS:
            self._refuse(node, f'the tag "{node.tag}" has no meaning here')
        if isinstance(node, MappingNode):
            chosen: dict[Any, tuple[Any, Any, bool]] = {}
            for key_node, value, merged in self._pairs(node, 0):
                if not isinstance(key_node, ScalarNode):
                    self._refuse(key_node, "a list or table cannot be a key")
                key = self._scalar(key_node)
                if key in chosen and not merged and not chosen[key][2]:
                    self._refuse(key_node, f'found duplicate key "{key}"')
                chosen[key] = key_node, value, merged
            result: dict[Any, Any] = {}
            for key, (key_node, value, _) in chosen.items():
                here = (*path, key)
                self.lines[here] = key_node.start_mark.line + 1
                result[key] = self.of(value, here)
            return result
        items = []
        for number, value in enumerate(node.value):
            here = (*path, number)
            self.lines[here] = value.start_mark.line + 1
            items.append(self.of(value, here))
        return items

    def _pairs(self, node: Any, depth: int) -> list[tuple[Any, Any, bool]]:
        """Keys and values, and whether they are taken over (``<<``): these first, of several tables the last first."""
        from ruamel.yaml.nodes import MappingNode, SequenceNode

        if depth > DEEPEST:
            self._refuse(node, f"takes over from tables more than {DEEPEST} deep")
        found: list[tuple[Any, Any, bool]] = []
        for key, value in node.value:
            if str(key.tag) == _MERGE:
                for source in reversed(value.value) if isinstance(value, SequenceNode) else [value]:
                    if not isinstance(source, MappingNode):
                        self._refuse(source, "<< takes over tables only")
                    taken = self._pairs(source, depth + 1)
                    self._spend(source, len(taken))
                    found += taken
        return found + [(k, v, depth > 0) for k, v in node.value if str(k.tag) != _MERGE]

    def _spend(self, node: Any, entries: int = 1) -> None:
        self.left -= entries
        if self.left < 0:
            self._refuse(node, "aliases (*) and << expand it beyond all measure")

    def _scalar(self, node: Any) -> Any:
        tag = str(node.tag)
        if tag not in _PLAIN:
            self._refuse(node, f'the tag "{tag}" has no meaning here')
        if tag in (_TAG + "str", _TAG + "timestamp"):
            return str(node.value)
        try:
            value = self.constructor.construct_object(node, deep=True)
        except (ValueError, KeyError, OverflowError, AttributeError, TypeError):
            self._refuse(node, f'"{node.value[:40]}" is no {tag.removeprefix(_TAG)}')
        for kind in (bool, int, float, str):
            if isinstance(value, kind):
                return kind(value)
        return None

    def _refuse(self, node: Any, problem: str) -> Any:
        from ruamel.yaml.error import MarkedYAMLError

        raise MarkedYAMLError(problem=problem, problem_mark=node.start_mark)
