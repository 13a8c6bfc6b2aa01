# Completion of kestrum(1) for bash: the program knows its commands, jobs, sets, paths and keys.
_kestrum() {
  local word=${COMP_WORDS[COMP_CWORD]} candidate
  local -a words=("${COMP_WORDS[@]:1:COMP_CWORD}")
  COMPREPLY=()
  while IFS= read -r candidate; do
    COMPREPLY+=("$(printf %q "$candidate")")
  done < <(kestrum --complete "${words[@]}" 2>/dev/null)
  [[ ${#COMPREPLY[@]} == 1 && ${COMPREPLY[0]} == */ ]] && compopt -o nospace
  return 0
}
complete -o default -F _kestrum kestrum
