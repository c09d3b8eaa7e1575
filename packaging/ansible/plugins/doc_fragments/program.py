"""What the options of all modules have in common."""


class ModuleDocFragment:
    DOCUMENTATION = r"""
options:
  program:
    description: The program on the host, with words that come first, such as a path.
    type: list
    elements: str
    default: [wanderitas]
  bench:
    description: A folder that stands in for a machine, to try things out.
    type: path
"""
