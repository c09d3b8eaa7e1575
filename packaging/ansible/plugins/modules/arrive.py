#!/usr/bin/python
"""Checks a board after its restart."""

DOCUMENTATION = r"""
module: arrive
short_description: Check a board after its restart
version_added: 0.1.0
description:
  - Makes the checks of C(wanderitas arrive) once the board runs from its new disk, and closes the logbook of the move.
  - Fails where the board came up from its old disk, or not everything is as planned.
  - A board that was checked before is not checked again.
author: The founders of Wanderitas (@wanderitas)
extends_documentation_fragment: wanderitas.boards.program
"""
EXAMPLES = r"""
- name: Check that the board arrived
  wanderitas.boards.arrive:
"""
RETURN = r"""
stage:
  description: The stage before, as the module status_info tells it.
  returned: always
  type: str
checks:
  description: All checks, each with name, state, text and hint.
  returned: when they were made, and all is as planned
  type: list
  elements: dict
"""

from ansible.module_utils.basic import AnsibleModule  # noqa: E402
from ansible_collections.wanderitas.boards.plugins.module_utils.program import ARGUMENTS, run, with_fix  # noqa: E402


def work(program):
    module = program.module
    stage = program.status()["stage"]
    if stage == "arrived":
        return {"changed": False, "stage": stage}
    if module.check_mode:
        return {"changed": stage == "booted", "stage": stage}
    arrival = program.ask("arrive", codes=(0, 1))
    if not arrival["as_planned"]:
        stops = [check for check in arrival["checks"] if check["state"] != "ok"]
        module.fail_json(msg=" | ".join(with_fix(each) for each in stops), stage=stage)
    return {"changed": True, "stage": stage, "checks": arrival["checks"]}


def main():
    run(AnsibleModule(argument_spec=ARGUMENTS, supports_check_mode=True), work)


if __name__ == "__main__":
    main()
