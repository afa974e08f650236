"""SPIR-V modules read: instructions with their source lines, types, constants, functions and blocks.

Only what the cost of a shader needs. The format is that of the SPIR-V specification, version 1.6.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

MAGIC = 0x07230203
_MOST_WORDS = 1 << 24

# opcodes, by the names of the specification
(OP_NAME, OP_MEMBER_NAME, OP_STRING, OP_LINE, OP_EXT_INST_IMPORT, OP_EXT_INST, OP_ENTRY_POINT) = (
    5,
    6,
    7,
    8,
    11,
    12,
    15,
)
(OP_TYPE_VOID, OP_TYPE_BOOL, OP_TYPE_INT, OP_TYPE_FLOAT, OP_TYPE_VECTOR, OP_TYPE_MATRIX) = (19, 20, 21, 22, 23, 24)
(OP_TYPE_IMAGE, OP_TYPE_SAMPLED_IMAGE, OP_TYPE_ARRAY, OP_TYPE_STRUCT, OP_TYPE_POINTER, OP_TYPE_FUNCTION) = (
    25,
    27,
    28,
    30,
    32,
    33,
)
(OP_CONSTANT_TRUE, OP_CONSTANT_FALSE, OP_CONSTANT, OP_CONSTANT_COMPOSITE, OP_SPEC_CONSTANT) = (41, 42, 43, 44, 50)
(OP_FUNCTION, OP_FUNCTION_PARAMETER, OP_FUNCTION_END, OP_FUNCTION_CALL) = (54, 55, 56, 57)
(OP_VARIABLE, OP_LOAD, OP_STORE, OP_ACCESS_CHAIN) = (59, 61, 62, 65)
(OP_LOOP_MERGE, OP_SELECTION_MERGE, OP_LABEL, OP_BRANCH, OP_BRANCH_CONDITIONAL, OP_SWITCH) = (
    246,
    247,
    248,
    249,
    250,
    251,
)
OP_LOGICAL_OR, OP_LOGICAL_AND, OP_PHI = 166, 167, 245
(OP_KILL, OP_RETURN, OP_RETURN_VALUE, OP_UNREACHABLE, OP_NO_LINE) = (252, 253, 254, 255, 317)


OP_DECORATE, OP_MEMBER_DECORATE, _BUILT_IN, _LOCATION = 71, 72, 11, 30
UNIFORM_CONSTANT, INPUT, UNIFORM, OUTPUT = 0, 1, 2, 3
_BUFFER_BLOCK, _OP_TYPE_RUNTIME_ARRAY = 3, 29
"""Storage classes."""


CHAINS = {OP_ACCESS_CHAIN, 66, 83}
"""Instructions that make a pointer or value of another, which comes first."""


class BadModuleError(Exception):
    """The words are no SPIR-V module; the message says where they stop being one."""


@dataclass(frozen=True)
class Instruction:
    opcode: int
    operands: tuple[int, ...]
    """All words after the first."""
    line: int = 0
    """Of the source; 0 where the module does not tell."""


def inputs_of(made: Instruction) -> tuple[int, ...]:
    """The results that an instruction with a result takes, without the literal numbers beside them."""
    match made.opcode:
        case 12:
            return made.operands[4:]
        case 79 | 82:
            return made.operands[2:4]
        case 81:
            return made.operands[2:3]
    return made.operands[2:]


@dataclass
class Block:
    """Instructions from a label to a branch. `merge` and `following` are set where a loop or a selection begins."""

    label: int
    instructions: list[Instruction] = field(default_factory=list)
    merge: int = 0
    following: int = 0
    """The continue target of a loop."""

    @property
    def targets(self) -> tuple[int, ...]:
        """Labels that it may branch to."""
        last = self.instructions[-1] if self.instructions else None
        if last is None:
            return ()
        match last.opcode:
            case 249:
                return last.operands[:1]
            case 250:
                return last.operands[1:3]
            case 251:
                return (last.operands[1], *last.operands[3::2])
        return ()


@dataclass
class Function:
    name: int
    blocks: dict[int, Block] = field(default_factory=dict)
    parameters: list[int] = field(default_factory=list)

    @property
    def entry(self) -> int:
        return next(iter(self.blocks))


@dataclass
class Module:
    names: dict[int, str] = field(default_factory=dict)
    members: dict[tuple[int, int], str] = field(default_factory=dict)
    types: dict[int, Instruction] = field(default_factory=dict)
    constants: dict[int, int | float | bool] = field(default_factory=dict)
    """Scalar constants."""
    variables: dict[int, Instruction] = field(default_factory=dict)
    """Of the module and of its functions."""
    functions: dict[int, Function] = field(default_factory=dict)
    entry: int = 0
    extended: set[int] = field(default_factory=set)
    """Sets of extended instructions that are GLSL.std.450."""
    splats: dict[int, int | float | bool] = field(default_factory=dict)
    """Constant vectors whose parts are all one number."""
    built_in: set[int] = field(default_factory=set)
    """Variables, and structures with members, that the pipeline fills or reads."""
    result_type: dict[int, int] = field(default_factory=dict)
    producer: dict[int, Instruction] = field(default_factory=dict)
    """Result -> the instruction of a function that makes it."""

    locations: dict[int, int] = field(default_factory=dict)
    """Variable -> the location that the source gives it."""

    buffer_blocks: set[int] = field(default_factory=set)
    """Structures that are storage buffers, in modules that have no storage class for these."""

    def is_uniform(self, variable: Instruction) -> bool:
        """Whether a variable of a module is a uniform or in a uniform block: what nothing writes while a draw runs."""
        storage = variable.operands[2]
        if storage not in (UNIFORM_CONSTANT, UNIFORM):
            return False
        pointed = self.types[variable.operands[0]].operands[2]
        while (type_ := self.types.get(pointed)) is not None and type_.opcode in (
            OP_TYPE_ARRAY,
            _OP_TYPE_RUNTIME_ARRAY,
        ):
            pointed = type_.operands[1]
        return pointed not in self.buffer_blocks

    def instructions(self) -> Iterator[Instruction]:
        """Of all functions."""
        for function in self.functions.values():
            for block in function.blocks.values():
                yield from block.instructions

    def base(self, pointer: int) -> int:
        """The variable or parameter that a pointer points into."""
        made = self.producer.get(pointer)
        while made is not None and made.opcode in CHAINS:
            pointer = made.operands[2]
            made = self.producer.get(pointer)
        return pointer

    def interface(self, storage: int) -> dict[str, int]:
        """Name -> scalars of the inputs or outputs that are no built-in ones."""
        found = {}
        for number, made in self.variables.items():
            if made.operands[2] != storage:
                continue
            type_ = self.types[made.operands[0]].operands[2]
            if number not in self.built_in and type_ not in self.built_in:
                found[self.names.get(number, str(number))] = self.scalars(type_)
        return found

    def loaded(self) -> set[str]:
        """Names of variables that are read, wholly or in part, by functions that main reaches."""
        found = set()
        for function in self._reached():
            for block in function.blocks.values():
                for i in block.instructions:
                    pointers = (
                        i.operands[2:3]
                        if i.opcode in (OP_LOAD, OP_ACCESS_CHAIN)
                        else i.operands[3:]
                        if i.opcode == OP_FUNCTION_CALL
                        else ()
                    )
                    found |= {self.names.get(p, str(p)) for p in pointers}
        return found

    def _reached(self) -> list[Function]:
        waiting, found = [self.entry], {}
        while waiting:
            number = waiting.pop()
            function = self.functions.get(number)
            if function is None or number in found:
                continue
            found[number] = function
            for block in function.blocks.values():
                waiting += [i.operands[2] for i in block.instructions if i.opcode == OP_FUNCTION_CALL]
        return list(found.values())

    def scalars(self, type_: int) -> int:
        """Scalars in a value of any type."""
        found = self.types.get(type_)
        if found is None:
            return 1
        if found.opcode == OP_TYPE_ARRAY:
            return int(self.constants.get(found.operands[2], 1)) * self.scalars(found.operands[1])
        if found.opcode == OP_TYPE_STRUCT:
            return sum(self.scalars(part) for part in found.operands[1:])
        return self.width(type_)

    def width(self, type_: int) -> int:
        """Scalars in a value of a type; 1 for what is none."""
        found = self.types.get(type_)
        if found is None:
            return 1
        if found.opcode in (OP_TYPE_VECTOR, OP_TYPE_MATRIX):
            return found.operands[2] * self.width(found.operands[1])
        return 1


def within(function: Function, starts: Iterable[int], stop: int) -> set[int]:
    """Labels of the blocks that can be reached from some without passing another."""
    found: set[int] = set()
    waiting = list(starts)
    while waiting:
        label = waiting.pop()
        if label != stop and label not in found and label in function.blocks:
            found.add(label)
            waiting += function.blocks[label].targets
    return found


def dominators(function: Function) -> dict[int, set[int]]:
    """Label of a block -> the blocks that have always run when it does, itself among them (the plain iteration of
    Cooper, Harvey and Kennedy, "A Simple, Fast Dominance Algorithm", 2001, on sets).
    """
    before: dict[int, list[int]] = {label: [] for label in function.blocks}
    for label, block in function.blocks.items():
        for target in block.targets:
            if target in before:
                before[target].append(label)
    everything = set(function.blocks)
    found = {label: {label} if label == function.entry else set(everything) for label in function.blocks}
    changed = True
    while changed:
        changed = False
        for label in function.blocks:
            if label == function.entry:
                continue
            known = [found[other] for other in before[label]]
            new = set.intersection(*known) | {label} if known else {label}
            if new != found[label]:
                found[label], changed = new, True
    return found


_MOST_BLOCKS, _MOST_INSTRUCTIONS, _MOST_DECIDED = 2_000, 300_000, 2_000_000
"""Of a function; with every call counted as what it runs; (block, branch that decides on it)."""


def check_followable(module: Module) -> None:
    """Raises BadModuleError where following a module would take minutes or the machine's memory: no program that
    anybody wrote by hand comes near.
    """
    sizes: dict[int, int] = {}

    def size(number: int, callers: frozenset[int]) -> int:
        """Instructions that a call of a function runs, each once."""
        function = module.functions.get(number)
        if function is None:
            return 0
        if number in callers:
            raise BadModuleError("a function calls itself")
        if number not in sizes:
            found = [i for block in function.blocks.values() for i in block.instructions]
            calls = [i.operands[2] for i in found if i.opcode == OP_FUNCTION_CALL]
            sizes[number] = len(found) + sum(size(called, callers | {number}) for called in calls)
            if sizes[number] > _MOST_INSTRUCTIONS:
                raise BadModuleError(f"it runs more than {_MOST_INSTRUCTIONS:,} instructions, too many to be followed")
        return sizes[number]

    decided = 0
    for number, function in module.functions.items():
        if len(function.blocks) > _MOST_BLOCKS:
            raise BadModuleError(f"a function has {len(function.blocks):,} blocks, too many to be followed")
        size(number, frozenset())
        for block in function.blocks.values():
            if block.following:
                body = within(function, [block.label], block.merge)
                decided += len(body) * sum(len(function.blocks[label].targets) > 1 for label in body)
                if decided > _MOST_DECIDED:
                    raise BadModuleError("its loops are nested too deep to be followed")


def read_module(data: bytes) -> Module:
    """Raises BadModuleError."""
    if len(data) % 4 or len(data) < 20 or len(data) // 4 > _MOST_WORDS:
        raise BadModuleError("its size is that of no module")
    words = struct.unpack(f"<{len(data) // 4}I", data)
    if words[0] != MAGIC:
        raise BadModuleError("it does not begin as a module")
    module = Module()
    function: Function | None = None
    block: Block | None = None
    at, line = 5, 0
    while at < len(words):
        count, opcode = words[at] >> 16, words[at] & 0xFFFF
        if count == 0 or at + count > len(words):
            raise BadModuleError(f"word {at} is no instruction")
        operands = words[at + 1 : at + count]
        try:
            if opcode == OP_LINE:
                line = operands[1]
            elif opcode == OP_NO_LINE:
                line = 0
            elif opcode == OP_FUNCTION:
                function = module.functions[operands[1]] = Function(operands[1])
            elif opcode == OP_FUNCTION_END:
                function = block = None
            elif opcode == OP_FUNCTION_PARAMETER and function is not None:
                function.parameters.append(operands[1])
                module.result_type[operands[1]] = operands[0]
            elif opcode == OP_LABEL and function is not None:
                block = function.blocks[operands[0]] = Block(operands[0])
            elif block is not None:
                _inside(module, block, Instruction(opcode, operands, line))
            else:
                _outside(module, opcode, operands)
        except IndexError as error:
            raise BadModuleError(f"the instruction at word {at} is too short") from error
        at += count
    if function is not None:
        raise BadModuleError("it ends inside a function")
    return module


def _inside(module: Module, block: Block, instruction: Instruction) -> None:
    opcode, operands = instruction.opcode, instruction.operands
    if opcode == OP_LOOP_MERGE:
        block.merge, block.following = operands[0], operands[1]
    elif opcode == OP_SELECTION_MERGE:
        block.merge = operands[0]
    block.instructions.append(instruction)
    if opcode == OP_VARIABLE:
        module.variables[operands[1]] = instruction
    if len(operands) >= 2 and opcode not in _WITHOUT_RESULT:
        module.result_type[operands[1]] = operands[0]
        module.producer[operands[1]] = instruction


_WITHOUT_RESULT = {
    OP_STORE,
    OP_BRANCH,
    OP_BRANCH_CONDITIONAL,
    OP_SWITCH,
    OP_LOOP_MERGE,
    OP_SELECTION_MERGE,
    OP_RETURN_VALUE,
    63,
    99,
    224,
    225,
    228,
}


def _outside(module: Module, opcode: int, operands: tuple[int, ...]) -> None:
    if opcode == OP_NAME:
        module.names[operands[0]] = _text(operands[1:])
    elif opcode == OP_MEMBER_NAME:
        module.members[operands[0], operands[1]] = _text(operands[2:])
    elif opcode == OP_EXT_INST_IMPORT and _text(operands[1:]) == "GLSL.std.450":
        module.extended.add(operands[0])
    elif opcode == OP_ENTRY_POINT:
        module.entry = operands[1]
    elif OP_TYPE_VOID <= opcode <= OP_TYPE_FUNCTION:
        module.types[operands[0]] = Instruction(opcode, operands)
    elif opcode in (OP_CONSTANT_TRUE, OP_CONSTANT_FALSE):
        module.constants[operands[1]] = opcode == OP_CONSTANT_TRUE
        module.result_type[operands[1]] = operands[0]
    elif opcode in (OP_CONSTANT, OP_SPEC_CONSTANT):
        module.constants[operands[1]] = _scalar(module.types.get(operands[0]), operands[2:])
        module.result_type[operands[1]] = operands[0]
    elif opcode == OP_VARIABLE:
        module.variables[operands[1]] = Instruction(opcode, operands)
        module.result_type[operands[1]] = operands[0]
    elif opcode == OP_CONSTANT_COMPOSITE:
        module.result_type[operands[1]] = operands[0]
        parts = {module.constants.get(part) for part in operands[2:]}
        if len(parts) == 1 and None not in parts:
            module.splats[operands[1]] = next(iter(parts))  # type: ignore[assignment]
    elif opcode == OP_DECORATE and operands[1] == _BUFFER_BLOCK:
        module.buffer_blocks.add(operands[0])
    elif opcode == OP_DECORATE and operands[1] == _LOCATION:
        module.locations[operands[0]] = operands[2]
    elif (opcode == OP_DECORATE and operands[1] == _BUILT_IN) or (
        opcode == OP_MEMBER_DECORATE and operands[2] == _BUILT_IN
    ):
        module.built_in.add(operands[0])


def _scalar(type_: Instruction | None, words: tuple[int, ...]) -> int | float:
    if type_ is None:
        return words[0]
    if type_.opcode == OP_TYPE_FLOAT:
        if type_.operands[1] == 64 and len(words) > 1:
            return float(struct.unpack("<d", struct.pack("<2I", *words[:2]))[0])
        return float(struct.unpack("<f", struct.pack("<I", words[0]))[0])
    signed = type_.opcode == OP_TYPE_INT and type_.operands[2]
    return words[0] - (1 << 32) if signed and words[0] >> 31 else words[0]


def _text(words: tuple[int, ...]) -> str:
    return struct.pack(f"<{len(words)}I", *words).split(b"\0", 1)[0].decode("utf-8", "replace")
