"""What the options of the modules that plan a move have in common."""


class ModuleDocFragment:
    DOCUMENTATION = r"""
options:
  to:
    description: The target. Never write a name here by hand; take what the module disk_info found.
    type: str
    required: true
  source:
    description: The disk that the system is moved from. Without it, the one that runs.
    type: str
  what:
    description: Whether boot comes along.
    type: str
    choices: [everything, root]
    default: everything
  despite:
    description: Checks that may stop.
    type: list
    elements: str
    default: []
"""
