"""Shader sources rewritten for trials: flat colours, constants in place of texture samples, fewer rounds, expressions
moved to the vertices, one element of an array passed over, grey textures as channels, lower precision.

Pure functions from source to source; line numbers stay what they are. All raise TrialError, saying what stands in
the way.
"""

from wendascope.trials.rewriting.channels import as_channels
from wendascope.trials.rewriting.directions import with_third_rebuilt
from wendascope.trials.rewriting.early import early_tests
from wendascope.trials.rewriting.elements import visited_arrays, without_element
from wendascope.trials.rewriting.flat import flat_colour
from wendascope.trials.rewriting.iterations import fewer_iterations
from wendascope.trials.rewriting.moving import moved_to_vertices
from wendascope.trials.rewriting.powers import simple_powers
from wendascope.trials.rewriting.precision import medium_precision
from wendascope.trials.rewriting.samples import without_samples
from wendascope.trials.rewriting.unused import without_outputs

__all__ = [
    "as_channels",
    "early_tests",
    "fewer_iterations",
    "flat_colour",
    "medium_precision",
    "moved_to_vertices",
    "simple_powers",
    "visited_arrays",
    "with_third_rebuilt",
    "without_element",
    "without_outputs",
    "without_samples",
]
