#!/usr/bin/python
"""Fails where a check stops a move."""

DOCUMENTATION = r"""
module: ready
short_description: Fail where a check stops a move
version_added: 0.1.0
description:
  - Makes the checks of C(wanderitas ready). A stop is the host's failure, with its text and what to do about it.
  - Changes nothing but the note for C(wanderitas status) of what was found.
author: The founders of Wanderitas (@wanderitas)
extends_documentation_fragment:
  - wanderitas.boards.program
  - wanderitas.boards.plan
"""
EXAMPLES = r"""
- name: Check that the move will work
  wanderitas.boards.ready:
    to: "{{ drive.disk }}"
"""
RETURN = r"""
checks:
  description: All checks, each with name, state, text and hint.
  returned: when none stops
  type: list
  elements: dict
"""

from ansible.module_utils.basic import AnsibleModule  # noqa: E402
from ansible_collections.wanderitas.boards.plugins.module_utils.program import (  # noqa: E402
    ARGUMENTS,
    PLAN_ARGUMENTS,
    run,
    with_fix,
    words_of_plan,
)


def work(program):
    params = program.module.params
    ready = program.ask("ready", *words_of_plan(params), codes=(0, 1))
    stops = [check for check in ready["checks"] if check["state"] == "stop"]
    stops = [check for check in stops if check["name"] not in params["despite"] or not ready["can_be_waived"]]
    if stops:
        program.module.fail_json(msg=" | ".join(with_fix(stop) for stop in stops))
    return {"changed": False, "checks": ready["checks"]}


def main():
    run(AnsibleModule(argument_spec={**ARGUMENTS, **PLAN_ARGUMENTS}, supports_check_mode=True), work)


if __name__ == "__main__":
    main()
