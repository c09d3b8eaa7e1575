#!/usr/bin/python
"""Tells the stage of a board's move."""

DOCUMENTATION = r"""
module: status_info
short_description: Tell the stage of a board's move
version_added: 0.1.0
description:
  - Asks C(wanderitas status) on the host. Changes nothing.
author: The founders of Wanderitas (@wanderitas)
extends_documentation_fragment: wanderitas.boards.program
"""
EXAMPLES = r"""
- name: Look at the state of the board
  wanderitas.boards.status_info:
  register: board
"""
RETURN = r"""
stage:
  description: One of none, stopped, ready, moving, interrupted, moved, old-disk, booted, arrived.
  returned: always
  type: str
status:
  description: The document of the program, wanderitas-status/2.
  returned: always
  type: dict
"""

from ansible.module_utils.basic import AnsibleModule  # noqa: E402
from ansible_collections.wanderitas.boards.plugins.module_utils.program import ARGUMENTS, run  # noqa: E402


def work(program):
    status = program.status()
    return {"changed": False, "stage": status["stage"], "status": status}


def main():
    run(AnsibleModule(argument_spec=ARGUMENTS, supports_check_mode=True), work)


if __name__ == "__main__":
    main()
