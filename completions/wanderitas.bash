# Completion for bash. Commands and options come from the program's own --help, so they are never out of date.
# shellcheck shell=bash

_wanderitas_disks() {
	local disk
	for disk in /sys/class/block/*; do
		[ -e "$disk/partition" ] || printf '%s\n' "${disk##*/}"
	done | grep -vE '^(loop|ram|zram|sr)[0-9]+$|boot[01]$'
}

_wanderitas_options() { # [COMMAND]
	local help
	help=$(wanderitas "$@" --help 2>/dev/null; wanderitas --help 2>/dev/null)
	grep -oE -- '^  (-[a-z], )?--[a-z-]+=?' <<<"$help" | grep -oE -- '--[a-z-]+=?' | sort -u
}

# What an option takes: words, disks, or files.
_wanderitas_values() { # OPTION WORD
	case $1 in
	--from | --to | --without | --with-disk) compgen -W "$(_wanderitas_disks)" -- "$2"; compgen -f -- "$2" ;;
	--what) compgen -W "everything root" -- "$2" ;;
	--table) compgen -W "same mbr gpt" -- "$2" ;;
	--name-by) compgen -W "partuuid uuid label partlabel path" -- "$2" ;;
	--with) compgen -W "loader drivers order firmware" -- "$2" ;;
	--first) compgen -W "nvme usb sd emmc" -- "$2" ;;
	--bench | --state) compgen -d -- "$2" ;;
	*) compgen -f -- "$2" ;;
	esac
}

_wanderitas() {
	local word=${COMP_WORDS[COMP_CWORD]} previous=${COMP_WORDS[COMP_CWORD - 1]} command='' i
	COMPREPLY=()
	# "=" is a word of its own for bash.
	if [ "$word" = = ]; then
		word=
	elif [ "$previous" = = ] && [ "$COMP_CWORD" -gt 1 ]; then
		previous=${COMP_WORDS[COMP_CWORD - 2]}
	fi
	for ((i = 1; i < COMP_CWORD; i++)); do
		case ${COMP_WORDS[i]} in
		--bench) i=$((i + 1)) ;;
		-* | =) ;;
		*) command=${COMP_WORDS[i]}; break ;;
		esac
	done
	if [[ $previous == --* ]] && _wanderitas_options ${command:+"$command"} | grep -qxF -- "$previous="; then
		mapfile -t COMPREPLY < <(_wanderitas_values "$previous" "$word")
	elif [[ $word == -* ]]; then
		mapfile -t COMPREPLY < <(compgen -W "$(_wanderitas_options ${command:+"$command"})" -- "$word")
		[[ ${COMPREPLY[0]:-} != *= ]] || compopt -o nospace 2>/dev/null
	elif [ -z "$command" ]; then
		mapfile -t COMPREPLY < <(compgen -W "$(wanderitas --help | sed -n 's/^  \([a-z]\+\) .*/\1/p')" -- "$word")
	else
		mapfile -t COMPREPLY < <(compgen -W "$(_wanderitas_disks)" -- "$word"; compgen -f -- "$word")
	fi
}
complete -o filenames -F _wanderitas wanderitas
