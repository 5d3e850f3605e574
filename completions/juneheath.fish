# Completion of juneheath for fish: the program itself knows what fits.
function __juneheath_complete
    set -l words (commandline -opc) (commandline -ct)
    $words[1] complete $words[2..-1] 2>/dev/null
end
complete -c juneheath -f -a '(__juneheath_complete)'
