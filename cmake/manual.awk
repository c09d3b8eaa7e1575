# Makes what people read about commands from docs/manual/*.txt (docs/manual/README.md tells the form of these).
#
#   awk -v want=help -f manual.awk wanderitas.txt COMMAND.txt...        C source: what --help prints
#   awk -v want=man -v page=move ...                                    a manual page
#   awk -v want=bash|zsh|fish ...                                       completions
#
# wanderitas.txt comes first: it has the order of the commands.

# ---- reading ----

function add_block(kind, title) {
	blocks[page_name]++
	block = page_name SUBSEP blocks[page_name]
	block_kind[block] = kind
	block_title[block] = title
	block_text[block] = ""
	option_count[block] = 0
}

function add_text(line) {
	block_text[block] = block_text[block] line "\n"
}

# Options: a line without indent names one; indented lines are its text, and those behind "+" are for the page alone.
function add_option_line(line) {
	if (line == "")
		return
	if (line !~ /^[ \t]/) {
		option_count[block]++
		option = block SUBSEP option_count[block]
		option_spec[option] = line
		option_text[option] = option_more[option] = ""
		return
	}
	sub(/^[ \t]+/, "", line)
	if (line ~ /^\+/) {
		sub(/^\+ ?/, "", line)
		option_more[option] = option_more[option] (option_more[option] == "" ? "" : " ") line
	} else {
		option_text[option] = option_text[option] (option_text[option] == "" ? "" : " ") line
	}
}

function take_line(line,    word, rest) {
	if (line !~ /^@/) {
		if (block_kind[block] == "options")
			add_option_line(line)
		else
			add_text(line)
		return
	}
	word = line
	sub(/ .*/, "", word)
	rest = line
	sub(/^[^ ]+ */, "", rest)
	if (word == "@summary")
		summary[page_name] = rest
	else if (word == "@usage")
		usage[page_name] = usage[page_name] rest "\n"
	else if (word == "@include")
		include(rest)
	else if (word == "@exit")
		exit_text[page_name, substr(rest, 1, 1)] = substr(rest, 3)
	else if (word == "@also")
		also[page_name] = rest
	else if (word == "@values") {
		split(rest, parts, " ")
		sub(/^[^ ]+ */, "", rest)
		values[parts[1]] = rest
	} else if (word == "@about" || word == "@more" || word == "@options" || word == "@examples" || word == "@commands")
		add_block(substr(word, 2), rest)
	else
		fail("there is no " word)
}

function include(name,    file, line) {
	file = folder "/" name ".inc"
	had = 0
	while ((getline line < file) > 0) {
		take_line(line)
		had = 1
	}
	close(file)
	if (!had)
		fail("cannot read " file)
}

function fail(why) {
	print FILENAME ": " why > "/dev/stderr"
	failed = 1
	exit 1
}

FNR == 1 {
	page_name = FILENAME
	sub(/.*\//, "", page_name)
	sub(/\.txt$/, "", page_name)
	folder = FILENAME
	if (!sub(/\/[^\/]*$/, "", folder))
		folder = "."
	pages[++page_count] = page_name
}
{ take_line($0) }

# ---- common ----

function plain(text) {
	gsub(/`/, "", text)
	return text
}

# Words of `text` in lines of at most `width`, the first behind `first`, the others behind `indent` blanks.
function wrap(text, first, indent, width,    n, w, i, line, out, is_fresh) {
	n = split(text, w, /[ \n]+/)
	line = first
	is_fresh = 1
	for (i = 1; i <= n; i++) {
		if (w[i] == "")
			continue
		if (!is_fresh && length(line) + 1 + length(w[i]) > width) {
			out = out line "\n"
			line = sprintf("%" indent "s", "")
			is_fresh = 1
		}
		line = line (is_fresh ? "" : " ") w[i]
		is_fresh = 0
	}
	return out line "\n"
}

# Paragraphs, one after the other; lines that begin with two blanks stay.
function paragraphs(text,    n, p, i, out) {
	sub(/\n+$/, "", text)
	n = split(text, p, /\n\n+/)
	for (i = 1; i <= n; i++)
		out = out (i > 1 ? "\n" : "") (p[i] ~ /^  / ? p[i] "\n" : wrap(p[i], "", 0, 80))
	return out
}

function find_commands(    i, key, n, w, k) {
	command_count = 0
	for (i = 1; i <= blocks["wanderitas"]; i++) {
		key = "wanderitas" SUBSEP i
		if (block_kind[key] != "commands")
			continue
		n = split(block_text[key], w, /[ \n]+/)
		for (k = 1; k <= n; k++) {
			if (w[k] == "")
				continue
			commands[++command_count] = w[k]
			command_group[w[k]] = block_title[key]
		}
	}
}

# ---- --help ----

function help_options(key,    i, o, spec, out) {
	if (option_count[key] == 0)
		return ""
	out = "\n" block_title[key] ":\n"
	for (i = 1; i <= option_count[key]; i++) {
		o = key SUBSEP i
		spec = option_spec[o]
		spec = "  " (spec ~ /^-[a-zA-Z],/ ? "" : "    ") spec
		if (length(spec) > 27)
			out = out spec "\n" wrap(plain(option_text[o]), sprintf("%28s", ""), 28, 80)
		else
			out = out wrap(plain(option_text[o]), sprintf("%-28s", spec), 28, 80)
	}
	return out
}

function help_examples(text, most,    n, l, i, shown, out) {
	n = split(text, l, "\n")
	for (i = 1; i <= n; i++) {
		if (l[i] ~ /^\$/) {
			if (++shown > most)
				break
			out = out "  " substr(l[i], 3) "\n"
		} else if (l[i] != "") {
			sub(/^[ \t]+/, "", l[i])
			out = out wrap(plain(l[i]), "      ", 6, 80)
		}
	}
	return "\nExamples:\n" out
}

function exit_line(name, code) {
	if ((name, code) in exit_text)
		return exit_text[name, code]
	return exit_text["exits", code]
}

function help_exits(name,    code, out) {
	out = "\nExit codes:\n"
	for (code = 0; code <= 4; code++)
		out = out wrap(plain(exit_line(name, code)), "  " code " ", 4, 80)
	return out
}

function help_commands(    i, c, group, out) {
	for (i = 1; i <= command_count; i++) {
		c = commands[i]
		if (command_group[c] != group) {
			group = command_group[c]
			out = out "\n" group ":\n"
		}
		out = out wrap(summary[c], sprintf("  %-11s", c), 13, 80)
	}
	return out
}

function usage_lines(name, before,    n, l, i, out) {
	n = split(usage[name], l, "\n")
	for (i = 1; i < n; i++)
		out = out wrap(l[i], (i == 1 ? "Usage: " : "       ") before, 10, 80)
	return out
}

function help_of(name,    i, key, out, has_listed) {
	out = usage_lines(name, "wanderitas ") "\n"
	if (name != "wanderitas")
		out = out wrap(summary[name], "", 0, 80) "\n"
	for (i = 1; i <= blocks[name]; i++) {
		key = name SUBSEP i
		if (block_kind[key] == "about")
			out = out paragraphs(plain(block_text[key]))
		else if (block_kind[key] == "options")
			out = out help_options(key)
		else if (block_kind[key] == "examples")
			examples = help_examples(block_text[key], name == "wanderitas" ? 4 : 2)
		else if (block_kind[key] == "commands" && !has_listed) {
			has_listed = 1
			out = out help_commands()
		}
	}
	out = out examples help_exits(name)
	return out "\nMore: " (name == "wanderitas" ? "wanderitas help COMMAND, " : "") "man wanderitas" \
		(name == "wanderitas" ? "" : "-" name) "\n"
}

function c_text(text) {
	gsub(/\\/, "\\\\", text)
	gsub(/"/, "\\\"", text)
	return text
}

function identifier(name) {
	gsub(/-/, "_", name)
	return name
}

function print_help_of(name,    n, l, i) {
	n = split(help_of(name), l, "\n")
	print "static const char *const help_of_" identifier(name) "[] = {"
	for (i = 1; i < n; i++)
		print "\t\"" c_text(l[i]) "\","
	print "\tNULL,\n};\n"
}

function make_help(    i) {
	print "/* Made from docs/manual by cmake/manual.awk. */"
	print "#include \"cli/common/manual.h\"\n\n#include <stddef.h>\n"
	print_help_of("wanderitas")
	for (i = 1; i <= command_count; i++)
		print_help_of(commands[i])
	print "const WdrManual wdr_manual[] = {"
	print "\t{ \"wanderitas\", help_of_wanderitas },"
	for (i = 1; i <= command_count; i++)
		print "\t{ \"" commands[i] "\", help_of_" identifier(commands[i]) " },"
	print "\t{ NULL, NULL },\n};"
}

# ---- manual pages ----

function roff(text) {
	gsub(/\\/, "\\e", text)
	gsub(/-/, "\\-", text)
	if (text ~ /^[.']/)
		text = "\\&" text
	return text
}

# Between backquotes: bold.
function roff_text(text,    n, p, i, out) {
	n = split(roff(text), p, "`")
	for (i = 1; i <= n; i++)
		out = out (i % 2 ? p[i] : "\\fB" p[i] "\\fR")
	return out
}

# Words in capitals stand for something, all else is typed.
function roff_words(text,    out, word) {
	while (match(text, /[A-Z][A-Z]+/)) {
		out = out roff(substr(text, 1, RSTART - 1)) "\\fI" substr(text, RSTART, RLENGTH) "\\fR\\fB"
		text = substr(text, RSTART + RLENGTH)
	}
	return "\\fB" out roff(text) "\\fR"
}

function print_filled(text,    n, l, i) {
	n = split(wrap(text, "", 0, 100), l, "\n")
	for (i = 1; i < n; i++)
		print roff_text(l[i])
}

function print_paragraphs(text,    n, p, i) {
	sub(/\n+$/, "", text)
	n = split(text, p, /\n\n+/)
	for (i = 1; i <= n; i++) {
		if (i > 1)
			print ".PP"
		print_filled(p[i])
	}
}

function print_options(key,    i, o) {
	if (option_count[key] == 0)
		return
	print ".SS " block_title[key]
	for (i = 1; i <= option_count[key]; i++) {
		o = key SUBSEP i
		print ".TP\n" roff_words(option_spec[o])
		print_filled(option_text[o] ".")
		if (option_more[o] != "")
			print_filled(option_more[o])
	}
}

function print_examples(text,    n, l, i) {
	print ".SH EXAMPLES"
	n = split(text, l, "\n")
	for (i = 1; i <= n; i++) {
		if (l[i] ~ /^\$/)
			print ".TP\n.B " roff(substr(l[i], 3))
		else if (l[i] != "") {
			sub(/^[ \t]+/, "", l[i])
			print roff_text(l[i])
		}
	}
}

function print_exits(name,    code) {
	print ".SH EXIT STATUS"
	for (code = 0; code <= 4; code++) {
		print ".TP\n.B " code
		print roff_text(exit_line(name, code) ".")
	}
}

function print_also(name,    n, w, i) {
	n = split((name == "wanderitas" ? "" : "wanderitas(1) ") also[name], w, " ")
	print ".SH SEE ALSO"
	for (i = 1; i <= n; i++) {
		if (i == 2 && w[i] == "wanderitas(1)")
			continue
		printf ".BR %s %s%s\n", roff(substr(w[i], 1, length(w[i]) - 3)), substr(w[i], length(w[i]) - 2), i < n ? " ," : ""
	}
}

function print_command_list(    i, c, n, parts) {
	print ".SH COMMANDS"
	for (i = 1; i <= command_count; i++) {
		c = commands[i]
		print ".TP\n.BR wanderitas\\-" c " (1)"
		print roff_text(summary[c])
	}
}

function print_usage(name,    n, l, i) {
	n = split(usage[name], l, "\n")
	for (i = 1; i < n; i++)
		print (i > 1 ? ".br\n" : "") "\\fBwanderitas\\fR " roff_words(l[i])
}

function make_man(name,    i, key, has_listed, has_options, text) {
	print ".\\\" Made from docs/manual/" name ".txt by cmake/manual.awk."
	print ".TH " toupper(name == "wanderitas" ? name : "wanderitas\\-" name) " 1 \"" date "\" \"wanderitas " version "\" \"User commands\""
	text = summary[name]
	sub(/\.$/, "", text)
	print ".SH NAME\nwanderitas" (name == "wanderitas" ? "" : "\\-" name) " \\- " roff_text(tolower(substr(text, 1, 1)) substr(text, 2))
	print ".SH SYNOPSIS"
	print_usage(name)
	for (i = 1; i <= blocks[name]; i++) {
		key = name SUBSEP i
		if (block_kind[key] == "about") {
			print ".SH DESCRIPTION"
			print_paragraphs(block_text[key])
		} else if (block_kind[key] == "options") {
			if (!has_options)
				print ".SH OPTIONS"
			has_options = 1
			print_options(key)
		} else if (block_kind[key] == "more") {
			print ".SH " toupper(block_title[key])
			print_paragraphs(block_text[key])
		} else if (block_kind[key] == "examples") {
			text = block_text[key]
		} else if (!has_listed) {
			has_listed = 1
			print_command_list()
		}
	}
	print_exits(name)
	print_examples(text)
	print_also(name)
}

# ---- completions ----

# The long name of an option, and what it takes ("": nothing).
function long_name(spec) {
	match(spec, /--[a-z-]+/)
	return substr(spec, RSTART, RLENGTH)
}

function short_name(spec) {
	return spec ~ /^-[a-zA-Z],/ ? substr(spec, 1, 2) : ""
}

function argument_of(spec) {
	return spec ~ /--[a-z-]+ / ? substr(spec, match(spec, /--[a-z-]+ /) + RLENGTH) : ""
}

# Words to choose from, or DISKS, FILES, FOLDERS; "": nothing can be offered.
function choices(argument) {
	if (argument ~ /^[a-z0-9-]+(\|[a-z0-9-]+)+$/) {
		gsub(/\|/, " ", argument)
		return argument
	}
	sub(/,\.\.\.$/, "", argument)
	if (argument in values)
		return values[argument]
	if (argument == "DISK" || argument == "DEVICE")
		return "DISKS"
	if (argument == "DIR" || argument == "FOLDER")
		return "FOLDERS"
	return argument ~ /FILE/ ? "FILES" : ""
}

# All options of a command: one a line, fields are long, short, argument, text.
function options_of(name,    i, k, key, o, out) {
	for (i = 1; i <= blocks[name]; i++) {
		key = name SUBSEP i
		if (block_kind[key] != "options")
			continue
		for (k = 1; k <= option_count[key]; k++) {
			o = key SUBSEP k
			out = out long_name(option_spec[o]) "\t" short_name(option_spec[o]) "\t" \
				argument_of(option_spec[o]) "\t" plain(option_text[o]) "\n"
		}
	}
	return out
}

# What the first argument behind a command is.
function argument_kind(name) {
	if (name == "help")
		return "COMMANDS"
	if (name == "demo")
		return "FOLDERS"
	if (name ~ /^(survey|rehearse|readdress|pace)$/)
		return "DISKS"
	return name ~ /^(move|catchup|rewind|loader|report|roster)$/ ? "FILES" : ""
}

function command_names(    i, out) {
	for (i = 1; i <= command_count; i++)
		out = out (i > 1 ? " " : "") commands[i]
	return out
}

# The names of a command's options, long and short.
function option_words(name,    n, l, k, f, out) {
	n = split(options_of(name), l, "\n")
	for (k = 1; k < n; k++) {
		split(l[k], f, "\t")
		out = out (k > 1 ? " " : "") f[1] (f[2] == "" ? "" : " " f[2])
	}
	return out
}

function make_bash(    i, k, n, l, f, all, line) {
	print "# Completion of wanderitas for bash. Made from docs/manual by cmake/manual.awk.\n# shellcheck shell=bash\n"
	print "_wanderitas_commands=\"" command_names() "\"\n"
	print "# The options of a command, and what an option of it takes."
	print "_wanderitas_options() { # COMMAND\n\tcase $1 in"
	for (i = 1; i <= command_count; i++)
		print "\t" commands[i] ") echo \"" option_words(commands[i]) "\" ;;"
	print "\t*) echo \"" option_words("wanderitas") "\" ;;\n\tesac\n}\n"
	print "_wanderitas_takes() { # COMMAND OPTION\n\tcase \"$1 $2\" in"
	for (i = 0; i <= command_count; i++) {
		n = split(options_of(i ? commands[i] : "wanderitas"), l, "\n")
		for (k = 1; k < n; k++) {
			split(l[k], f, "\t")
			if (f[3] == "" || (i && index("\n" options_of("wanderitas"), "\n" l[k] "\n")))
				continue
			all = choices(f[3])
			print "\t" (i ? "\"" commands[i] " " : "*\" ") f[1] "\"" (f[2] == "" ? "" : " | " (i ? "\"" commands[i] " " : "*\" ") f[2] "\"") ") echo \"" (all == "" ? "NOTHING" : all) "\" ;;"
		}
	}
	print "\tesac\n}\n"
	print "_wanderitas_argument() { # COMMAND\n\tcase $1 in"
	for (i = 1; i <= command_count; i++) {
		if (argument_kind(commands[i]) != "")
			print "\t" commands[i] ") echo " argument_kind(commands[i]) " ;;"
	}
	print "\tesac\n}\n"
	while ((getline line < (templates "/wanderitas.bash.in")) > 0)
		print line
}

function zsh_text(text) {
	gsub(/:/, "\\:", text)
	gsub(/\[/, "\\[", text)
	gsub(/\]/, "\\]", text)
	gsub(/'/, "'\\''", text)
	return text
}

function zsh_action(kind) {
	if (kind == "DISKS")
		return "_wanderitas_disks"
	if (kind == "COMMANDS")
		return "(" command_names() ")"
	if (kind == "FOLDERS")
		return "_files -/"
	if (kind == "FILES")
		return "_files"
	return kind == "" ? " " : "(" kind ")"
}

function print_zsh_options(name,    n, l, f, k, shape) {
	n = split(options_of(name), l, "\n")
	for (k = 1; k < n; k++) {
		split(l[k], f, "\t")
		shape = f[2] == "" ? "'" f[1] : "{" f[2] "," f[1] "}'"
		if (f[3] != "" && f[2] == "")
			shape = shape "="
		if (l[k] ~ /may be given several times/)
			shape = f[2] == "" ? "'*" substr(shape, 2) : shape
		print "\t\t" shape "[" zsh_text(f[4]) "]" (f[3] == "" ? "" : ":" zsh_text(f[3]) ":" zsh_action(choices(f[3]))) "' \\"
	}
}

function make_zsh(    i, c) {
	print "#compdef wanderitas\n# Completion of wanderitas for zsh. Made from docs/manual by cmake/manual.awk.\n"
	print "_wanderitas_disks() {\n\tlocal -a disks\n\tdisks=(${(f)\"$(wanderitas survey --names 2>/dev/null)\"})\n\tcompadd -a disks\n\t_files\n}\n"
	for (i = 1; i <= command_count; i++) {
		c = commands[i]
		print "_wanderitas_" identifier(c) "() {\n\t_arguments \\"
		print_zsh_options(c)
		print "\t\t'*:argument:" zsh_action(argument_kind(c)) "'\n}\n"
	}
	print "_wanderitas() {\n\tlocal state line\n\tlocal -A opt_args\n\t_arguments -C \\"
	print_zsh_options("wanderitas")
	print "\t\t'1:command:->command' \\\n\t\t'*::argument:->argument'\n\tcase $state in"
	print "\tcommand)\n\t\tlocal -a commands\n\t\tcommands=("
	for (i = 1; i <= command_count; i++)
		print "\t\t\t'" commands[i] ":" zsh_text(summary[commands[i]]) "'"
	print "\t\t)\n\t\t_describe command commands\n\t\t;;"
	print "\targument)\n\t\t(( $+functions[_wanderitas_$line[1]] )) && _wanderitas_$line[1]\n\t\t;;\n\tesac\n}\n"
	print "_wanderitas \"$@\""
}

function fish_text(text) {
	gsub(/\\/, "\\\\", text)
	gsub(/'/, "\\'", text)
	return "'" text "'"
}

function fish_arguments(kind) {
	if (kind == "DISKS")
		return " -a '(wanderitas survey --names 2>/dev/null)'"
	if (kind == "COMMANDS")
		return " -a '" command_names() "'"
	if (kind == "FOLDERS")
		return " -f -a '(__fish_complete_directories)'"
	return kind == "FILES" || kind == "" ? "" : " -f -a '" kind "'"
}

function print_fish_options(name, condition,    n, l, f, k, globals) {
	n = split(options_of(name), l, "\n")
	globals = name == "wanderitas" ? "" : "\n" options_of("wanderitas")
	for (k = 1; k < n; k++) {
		if (globals != "" && index(globals, "\n" l[k] "\n"))
			continue
		split(l[k], f, "\t")
		print "complete -c wanderitas" condition (f[2] == "" ? "" : " -s " substr(f[2], 2)) " -l " substr(f[1], 3) \
			(f[3] == "" ? "" : " -r" fish_arguments(choices(f[3]))) " -d " fish_text(f[4])
	}
}

function make_fish(    i, c) {
	print "# Completion of wanderitas for fish. Made from docs/manual by cmake/manual.awk.\n"
	print "set -l commands " command_names() "\n"
	print_fish_options("wanderitas", "")
	for (i = 1; i <= command_count; i++) {
		c = commands[i]
		print "complete -c wanderitas -f -n \"not __fish_seen_subcommand_from $commands\" -a " c " -d " fish_text(summary[c])
		if (argument_kind(c) != "")
			print "complete -c wanderitas -n '__fish_seen_subcommand_from " c "'" fish_arguments(argument_kind(c))
		print_fish_options(c, " -n '__fish_seen_subcommand_from " c "'")
	}
}

END {
	if (failed)
		exit 1
	find_commands()
	exit_text["exits", 0] = "done"
	exit_text["exits", 1] = "looked and found something wrong"
	exit_text["exits", 2] = "wrong usage"
	exit_text["exits", 3] = "refused; nothing was changed"
	exit_text["exits", 4] = "stopped part-way; the message says how to continue"
	if (want == "help")
		make_help()
	else if (want == "man")
		make_man(page)
	else if (want == "bash")
		make_bash()
	else if (want == "zsh")
		make_zsh()
	else
		make_fish()
}
