"""The OpenGL tables: every command and enumerant of the Khronos registry, made at build time.

`tables()` loads them; `generate` and `build` make them and the C code of the tap from the XML.
Imports nothing of the rest of Wendascope, so that everything may import it.
"""

from wendascope.registry._tables import GL, Command, Parameter, Tables, is_offered, native_library, tables

__all__ = ["GL", "Command", "Parameter", "Tables", "is_offered", "native_library", "tables"]
