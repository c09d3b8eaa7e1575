"""Runs wanderitas on the host, and takes the document that it prints."""

import json

ARGUMENTS = {
    "program": {"type": "list", "elements": "str", "default": ["wanderitas"]},
    "bench": {"type": "path"},
}

# Of modules that plan a move.
PLAN_ARGUMENTS = {
    "to": {"type": "str", "required": True},
    "source": {"type": "str"},
    "what": {"type": "str", "choices": ["everything", "root"], "default": "everything"},
    "despite": {"type": "list", "elements": "str", "default": []},
}

# The stages of docs/formats/status.md, by what a move has still to do.
BEFORE = ("none", "stopped", "ready")
AFTER = ("moved", "old-disk", "booted", "arrived")


def words_of_plan(params):
    words = ["--to", params["to"], "--what", params["what"]]
    return words + ["--from", params["source"]] if params["source"] else words


def with_fix(check):
    """A finding with what to do about it, where there is something."""
    text = f"{check['name']}: {check['text']}"
    return f"{text}; to fix it: {check['hint']}" if check["hint"] else text


class Program:
    def __init__(self, module):
        self.module = module
        self.words = list(module.params["program"])
        if module.params["bench"]:
            self.words += ["--bench", module.params["bench"]]

    def ask(self, *words, codes=(0,), says=None):
        """The document of a call that ends with one of these codes. Every other end is the host's failure. says: what its
        message says, by what the user of the module knows."""
        call = self.words + ["--quiet", "--json"] + list(words)
        code, out, err = self.module.run_command(call, handle_exceptions=False)
        try:
            document = json.loads(out)
        except ValueError:
            self.module.fail_json(msg=f"{' '.join(call)} ended with exit code {code}: {err.strip() or out.strip()}")
        problem = document.get("error")
        if problem and str(document.get("format")).startswith("wanderitas-error/"):
            message = says(problem["message"]) if says else problem["message"]
            self.module.fail_json(
                msg=f"{message}; {problem['hint']}" if problem.get("hint") else message,
                code=problem.get("code"),
                command=problem.get("command"),
                rc=code,
            )
        if code not in codes:
            self.module.fail_json(msg=f"{' '.join(call)} ended with exit code {code}: {err.strip()}", rc=code)
        return document

    def status(self):
        return self.ask("status")


def run(module, work):
    """work(program) returns what the module answers."""
    try:
        module.exit_json(**work(Program(module)))
    except OSError as problem:
        module.fail_json(
            msg=f"{module.params['program'][0]} cannot be run on this host: {problem.strerror}; "
            "install the package wanderitas there"
        )
