# Completion of juneheath for bash: the program itself knows what fits.
_juneheath() {
  # What stands after "=" or ":" belongs to the same word (C:, 2:p3, /var=10GiB).
  local words cword
  if declare -F _get_comp_words_by_ref >/dev/null; then
    _get_comp_words_by_ref -n ":=" words cword
  else
    words=("${COMP_WORDS[@]}") cword=$COMP_CWORD
  fi
  local -a given=("${words[@]:1:cword}")
  local last=${given[cword - 1]}
  COMPREPLY=()
  local word about
  while IFS=$'\t' read -r word about; do
    COMPREPLY+=("$(printf '%q' "$word")")
  done < <("${words[0]}" complete "${given[@]}" 2>/dev/null)
  [[ ${#COMPREPLY[@]} -eq 1 && ${COMPREPLY[0]} == */ && ! $last == -* ]] && compopt -o nospace 2>/dev/null
  declare -F __ltrim_colon_completions >/dev/null && __ltrim_colon_completions "$last"
  return 0
}
complete -F _juneheath juneheath
