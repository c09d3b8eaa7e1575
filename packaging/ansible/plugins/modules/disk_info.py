#!/usr/bin/python
"""Finds the one disk of a board that rules fit."""

DOCUMENTATION = r"""
module: disk_info
short_description: Find the one disk of a board that rules fit
version_added: 0.1.0
description:
  - Finds a target by what it is, since names such as C(sda) change between boots.
  - The rules are those of a slot of a roster. They must fit exactly one disk, which is not the one that the system runs from.
  - Changes nothing.
author: The founders of Wanderitas (@wanderitas)
extends_documentation_fragment: wanderitas.boards.program
options:
  rules:
    description: What the disk is like. At least one rule.
    type: dict
    required: true
    suboptions:
      port:
        description: Where it is plugged in, as C(wanderitas roster) draws it.
        type: str
      serial:
        description: A shell pattern.
        type: str
      model:
        description: A shell pattern.
        type: str
      medium:
        description: A shell pattern, such as C(NVMe) or C(USB disk).
        type: str
      at_least:
        description: A size, such as C(200G).
        type: str
      at_most:
        description: A size.
        type: str
  source:
    description: The disk that the system is moved from, which is never the target. Without it, the one that runs.
    type: str
"""
EXAMPLES = r"""
- name: Find the new drive
  wanderitas.boards.disk_info:
    rules:
      medium: NVMe
      at_least: 200G
  register: drive
"""
RETURN = r"""
disk:
  description: Its name, for the option O(to) of the module move.
  returned: always
  type: str
found:
  description: What is known of it.
  returned: always
  type: dict
"""

import json  # noqa: E402
import os  # noqa: E402
import tempfile  # noqa: E402

from ansible.module_utils.basic import AnsibleModule  # noqa: E402
from ansible_collections.wanderitas.boards.plugins.module_utils.program import ARGUMENTS, run  # noqa: E402

RULES = ("port", "serial", "model", "medium", "at_least", "at_most")


def work(program):
    module = program.module
    rules = {key: value for key, value in module.params["rules"].items() if value}
    if not rules:
        module.fail_json(msg="rules names no rule: a target is never chosen without one")
    roster = {"format": "wanderitas-roster/1", "slots": [{"name": "target", **rules}]}
    if module.params["source"]:
        roster["from"] = module.params["source"]
    handle, path = tempfile.mkstemp(suffix=".json", dir=module.tmpdir)
    try:
        with os.fdopen(handle, "w") as file:
            json.dump(roster, file)
        found = program.ask(
            "roster", path, says=lambda message: message.replace(f"{path}:1: slot 'target'", "the target of these rules")
        )["slots"][0]
    finally:
        os.unlink(path)
    return {"changed": False, "disk": found["disk"], "found": found}


def main():
    spec = {
        "rules": {"type": "dict", "required": True, "options": {rule: {"type": "str"} for rule in RULES}},
        "source": {"type": "str"},
    }
    run(AnsibleModule(argument_spec={**ARGUMENTS, **spec}, supports_check_mode=True), work)


if __name__ == "__main__":
    main()
