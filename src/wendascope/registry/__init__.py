"""The OpenGL tables: every command and enumerant of the Khronos registry, made at build time.

`tables()` loads them; `generate` and `build` make them and the C code of the tap from the XML.
Imports nothing of the rest of Wendascope, so that everything may import it.
"""

from wendascope.registry._tables import GL, Command, Parameter, Tables, is_offered, native_library, tables
from wendascope.registry.roles import STEPS, Role

__all__ = ["GL", "STEPS", "Command", "Parameter", "Role", "Tables", "is_offered", "native_library", "tables"]
