"""Which instructions of a shader have an effect: a driver leaves out the rest.

Shaders of engines compute much that only some of their passes use: a depth-only pass takes no colour, so that no light
of its shader is ever computed. What is not certain counts as having an effect.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping

from wendascope.glsl import spirv
from wendascope.glsl.spirv import Block, Function, Instruction, Module

_EFFECTS = {spirv.OP_KILL, 4416, 5380, 63, 99, 218, 219, 220, 221, 224, 225, *range(227, 243)}
"""Leaving out fragments, copies of memory, writes to images, emitted vertices, barriers, atomics."""
_RETURNS = {spirv.OP_RETURN, spirv.OP_RETURN_VALUE}
_FUNCTION, _PRIVATE = 7, 6
"""Storage classes that nothing but the shader sees."""


def live_instructions(module: Module, outputs: Collection[int] | None = None) -> set[int]:
    """Identities (`id`) of the instructions with an effect. `outputs` are the output variables that something takes;
    None for all of them. Built-in ones are always taken.
    """
    return _Living(module, outputs).find()


def live_inputs(module: Module, live: Collection[int]) -> set[str]:
    """Names of the inputs that instructions with an effect read."""
    found = set()
    for i in module.instructions():
        if id(i) in live and i.opcode in (spirv.OP_LOAD, *spirv.CHAINS):
            base = module.base(i.operands[2])
            made = module.variables.get(base)
            if made is not None and made.operands[2] == spirv.INPUT:
                found.add(module.names.get(base, ""))
    return found


class _Living:
    def __init__(self, module: Module, outputs: Collection[int] | None) -> None:
        self._m, self._outputs = module, outputs
        self._live: set[int] = set()
        self._waiting: list[Instruction] = []
        self._joined: dict[int, int] = {}
        self._place: dict[int, tuple[Function, Block]] = {}
        self._stores: dict[int, list[Instruction]] = defaultdict(list)
        self._calls: dict[int, list[Instruction]] = defaultdict(list)
        """Function -> calls of it."""
        self._arguments: dict[int, list[int]] = defaultdict(list)
        """Parameter -> what calls pass for it."""
        self._controls: dict[int, list[Instruction]] = defaultdict(list)
        """Label -> branches that decide whether its block is run."""
        self._done: set[tuple[str, int]] = set()
        """Blocks, functions and variables of which all that decides on them, calls or fills them is marked."""
        self._read: set[int] = set()
        """Parameters whose arguments are needed."""
        self._parameters = {p for f in module.functions.values() for p in f.parameters}

    def _everything(self) -> Iterator[tuple[Function, Block, Instruction]]:
        for function in self._m.functions.values():
            for block in function.blocks.values():
                for i in block.instructions:
                    yield function, block, i

    def find(self) -> set[int]:
        self._gather()
        for _, block, i in self._everything():
            early = i.opcode in _RETURNS and bool(self._controls[block.label])
            if i.opcode in _EFFECTS or early or (i.opcode == spirv.OP_STORE and self._is_seen(i.operands[0])):
                self._mark(i)
        while self._waiting:
            self._follow(self._waiting.pop())
        return self._live

    # ---- what there is --------------------------------------------------------------------------------

    def _gather(self) -> None:
        for function, block, i in self._everything():
            self._place[id(i)] = (function, block)
            if i.opcode == spirv.OP_FUNCTION_CALL:
                self._calls[i.operands[2]].append(i)
                called = self._m.functions.get(i.operands[2])
                for parameter, argument in zip(called.parameters if called else (), i.operands[3:], strict=False):
                    self._arguments[parameter].append(argument)
                    if self._m.base(argument) in self._m.variables or argument in self._parameters:
                        self._join(parameter, self._m.base(argument))
        for _, _, i in self._everything():
            if i.opcode == spirv.OP_STORE:
                self._stores[self._root(self._m.base(i.operands[0]))].append(i)
        for function in self._m.functions.values():
            for block in function.blocks.values():
                self._note_controls(function, block)

    def _root(self, number: int) -> int:
        while self._joined.get(number, number) != number:
            number = self._joined[number]
        return number

    def _join(self, a: int, b: int) -> None:
        self._joined[self._root(a)] = self._root(b)

    def _note_controls(self, function: Function, block: Block) -> None:
        last = block.instructions[-1] if block.instructions else None
        if last is None or not block.merge:
            return
        if not block.following:
            for label in spirv.within(function, [t for t in block.targets if t != block.merge], block.merge):
                self._controls[label].append(last)
            return
        body = spirv.within(function, [block.label], block.merge)
        leaving = [function.blocks[label].instructions[-1] for label in body if function.blocks[label].instructions]
        leaving = [i for i in leaving if i.opcode in (spirv.OP_BRANCH_CONDITIONAL, spirv.OP_SWITCH)]
        for label in body:
            self._controls[label] += leaving

    def _is_seen(self, pointer: int) -> bool:
        """Whether somebody beside the shader sees what is stored there."""
        made = self._m.variables.get(self._m.base(pointer))
        if made is None:
            return self._m.base(pointer) not in self._parameters
        storage = made.operands[2]
        if storage != spirv.OUTPUT:
            return storage not in (_FUNCTION, _PRIVATE)
        number = self._m.base(pointer)
        type_ = self._m.types[made.operands[0]].operands[2]
        built_in = number in self._m.built_in or type_ in self._m.built_in
        return self._outputs is None or built_in or number in self._outputs

    # ---- what follows ---------------------------------------------------------------------------------

    def _mark(self, i: Instruction) -> None:
        if id(i) not in self._live:
            self._live.add(id(i))
            self._waiting.append(i)

    def _mark_all(self, instructions: Iterable[Instruction]) -> None:
        for i in instructions:
            self._mark(i)

    def _mark_once(self, what: str, key: int, of: Mapping[int, Iterable[Instruction]]) -> None:
        if (what, key) not in self._done:
            self._done.add((what, key))
            self._mark_all(of.get(key, ()))

    def _need(self, number: int) -> None:
        """Mark what makes a value; of a parameter, what every call passes for it."""
        made = self._m.producer.get(number)
        if made is not None:
            self._mark(made)
        elif number in self._parameters and number not in self._read:
            self._read.add(number)
            for argument in self._arguments[number]:
                self._need(argument)

    def _follow(self, i: Instruction) -> None:
        """Mark all that an instruction with an effect needs to have it."""
        function, block = self._place[id(i)]
        self._mark_once("controls", block.label, self._controls)
        if i.opcode == spirv.OP_FUNCTION_CALL:
            called = self._m.functions.get(i.operands[2])
            if called is not None and ("returns", called.name) not in self._done:
                self._done.add(("returns", called.name))
                for inner in called.blocks.values():
                    self._mark_all(one for one in inner.instructions if one.opcode == spirv.OP_RETURN_VALUE)
            return
        if i.opcode == spirv.OP_PHI:
            for label in i.operands[3::2]:
                self._mark_once("controls", label, self._controls)
                self._mark_all(function.blocks[label].instructions[-1:] if label in function.blocks else ())
        early = i.opcode in _RETURNS and bool(self._controls[block.label])
        if early or i.opcode in _EFFECTS or (i.opcode == spirv.OP_STORE and self._leaves(i.operands[0])):
            self._mark_once("calls", function.name, self._calls)
        has_result = len(i.operands) > 1 and self._m.producer.get(i.operands[1]) is i
        for number in spirv.inputs_of(i) if has_result else i.operands:
            self._need(number)
        if i.opcode == spirv.OP_LOAD:
            self._mark_once("stores", self._root(self._m.base(i.operands[2])), self._stores)

    def _leaves(self, pointer: int) -> bool:
        """Whether what is stored there outlives the function."""
        made = self._m.variables.get(self._m.base(pointer))
        return made is None or made.operands[2] != _FUNCTION
