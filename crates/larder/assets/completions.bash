# Completions of larder for bash. `larder` itself says what could stand where; this asks it.
_larder() {
    local IFS=$'\013'
    local line=${COMP_LINE:0:COMP_POINT}
    local -a words
    # Bash breaks words at `:` and `=` too, where an image's tag and an option's value begin: only spaces count here.
    IFS=$' \t' read -ra words <<< "$line"
    case $line in *[$' \t']) words+=("") ;; esac
    local word=${words[${#words[@]}-1]} before=""
    COMPREPLY=($(
        _CLAP_IFS=$'\013' \
        _CLAP_COMPLETE_INDEX=$((${#words[@]} - 1)) \
        _CLAP_COMPLETE_COMP_TYPE=$COMP_TYPE \
        _CLAP_COMPLETE_SPACE=false \
        LARDER_COMPLETE=bash \
        "${words[0]}" -- "${words[@]}" 2> /dev/null
    ))
    # What bash takes for an earlier word is not said again.
    case $word in
        *:*) [[ $COMP_WORDBREAKS == *:* ]] && before=${word%"${word##*:}"} ;;
        *=*) [[ $COMP_WORDBREAKS == *=* ]] && before=${word%"${word##*=}"} ;;
    esac
    COMPREPLY=("${COMPREPLY[@]#"$before"}")
    [[ ${#COMPREPLY[@]} -eq 1 && ${COMPREPLY[0]} == *[/:=] ]] && compopt -o nospace 2> /dev/null
    return 0
}
complete -o bashdefault -o nosort -F _larder larder 2> /dev/null || complete -o bashdefault -F _larder larder
