# What is sent to a shell on another machine before each request: POSIX sh and its usual companions, nothing else.
# A document root is a customer's. No link in it is followed, and each folder is entered before it is looked at:
# where a name leads is known by asking where one stands, which nobody can change afterwards.
set -u
umask 022
LC_ALL=C
export LC_ALL

fail() {
    printf '%s\n' "$1" >&2
    exit 3
}

# Another proof was taken down, and its folders with it, while this one came: worth another try.
gone() {
    printf '%s\n' "$1" >&2
    exit 4
}

# Enter the folder $1 of the present one; 1 when it is not there.
inside() {
    [ -h "./$1" ] && fail "“$1” on the way is a symbolic link; no link of a customer's is followed"
    [ -e "./$1" ] || return 1
    [ -d "./$1" ] || fail "“$1” on the way is not a folder"
    before=$(pwd -P)
    cd -P "./$1" 2>/dev/null || {
        [ -e "./$1" ] || return 1
        fail "“$1” on the way cannot be entered"
    }
    [ "$(pwd -P)" = "${before%/}/$1" ] || fail "“$1” was exchanged while it was entered"
}

# Whether only root or this user could have made the link $1 of the present folder, or exchange it.
is_trusted() {
    ls -ldn "./$1" . | {
        sure=yes
        while read -r mode _ owner _; do
            [ "$owner" = 0 ] || [ "$owner" = "$(id -u)" ] || sure=
            case $mode in
            l*) ;;
            ?????w???[tT]* | ????????w[tT]*) ;;
            ?????w* | ????????w*) sure= ;;
            esac
        done
        [ -n "$sure" ]
    }
}

open_root() {
    rest=$1
    links=0
    cd /
    while [ -n "$rest" ]; do
        part=${rest%%/*}
        case $rest in
        */*) rest=${rest#*/} ;;
        *) rest= ;;
        esac
        case $part in
        '' | .) continue ;;
        ..)
            cd -P ..
            continue
            ;;
        esac
        if [ -h "./$part" ]; then
            is_trusted "$part" || fail "the way passes through the symbolic link “$part”, which a customer controls"
            links=$((links + 1))
            [ "$links" -le 20 ] || fail "it leads through too many symbolic links"
            line=$(ls -ldn "./$part")
            target=${line#*"./$part -> "}
            case $target in
            /*) cd / ;;
            esac
            rest=$target/$rest
        else
            inside "$part" || fail "cannot open the document root: there is no folder “$part”"
        fi
    done
}

# root part… file: which folders, by number, are not there.
missing_folders() {
    open_root "$1"
    shift
    number=0
    while [ $# -gt 1 ]; do
        inside "$1" || break
        number=$((number + 1))
        shift
    done
    while [ $# -gt 1 ]; do
        printf '%s\n' "$number"
        number=$((number + 1))
        shift
    done
}

check_root() {
    open_root "$1"
    shift
    while [ $# -gt 1 ]; do
        inside "$1" || break
        shift
    done
    [ -w . ] && [ -x . ] || fail "user $(id -u) may not write there"
}

# root part… file: write what `content` prints; says which folders, by number, were made. The last thing that is done.
plant() {
    tries=5
    while
        (plant_once "$@")
        status=$?
        tries=$((tries - 1))
        [ "$status" = 4 ] && [ "$tries" -gt 0 ]
    do :; done
    [ "$status" = 4 ] && exit 3
    exit "$status"
}

plant_once() {
    open_root "$1"
    shift
    number=0
    while [ $# -gt 1 ]; do
        if mkdir "./$1" 2>/dev/null; then
            printf '%s\n' "$number"
            inside "$1" && chmod 755 . || gone "the folder “$1” was taken away"
        else
            inside "$1" || gone "the folder “$1” cannot be made"
        fi
        number=$((number + 1))
        shift
    done
    # Written in a folder of our own, where nobody can put a link in the way, then named by link(2), which follows none.
    own=.inkstamp.$$
    mkdir -m 700 "./$own" 2>/dev/null || {
        [ -d "$PWD" ] || gone "the folder was taken away"
        fail "user $(id -u) may not write there"
    }
    inside "$own" || fail "the folder “$own” was taken away"
    trap 'rm -f file; cd -P .. && rmdir "./$own"; exit 3' HUP TERM PIPE  # the connection is lost: leave nothing
    if content >file && chmod 644 file && rm -f "../$1" && link file "../$1"; then
        done=yes
    else
        done=
    fi
    rm -f file
    cd -P ..
    rmdir "./$own"
    trap - HUP TERM PIPE
    [ -n "$done" ] || fail "the file “$1” cannot be written"
}

# "numbers" root part… file: remove the file, and those folders as far as they are empty.
uproot() {
    made=$1
    (open_root "$2") 2>/dev/null || return 0
    open_root "$2"
    shift 2
    number=0
    while [ $# -gt 1 ]; do
        [ -h "./$1" ] && break
        inside "$1" || break
        number=$((number + 1))
        shift
    done
    if [ $# -eq 1 ]; then
        rm -f "./$1" || fail "the file “$1” cannot be removed"
    fi
    while [ "$number" -gt 0 ]; do
        number=$((number - 1))
        here=$(pwd -P)
        cd -P ..
        case " $made " in
        *" $number "*) rmdir "./${here##*/}" 2>/dev/null || return 0 ;;
        esac
    done
}

# Put what `content` prints into the place of a file, with its mode and owner.
replace() {
    file=$1
    while [ -h "$file" ]; do
        line=$(ls -ldn "$file")
        target=${line#*"$file -> "}
        case $target in
        /*) file=$target ;;
        *) file=${file%/*}/$target ;;
        esac
    done
    # Not seen by programs that read all files of a folder.
    part=${file%/*}/.${file##*/}.part
    cp -p "$file" "$part" && content >"$part" && mv -f "$part" "$file" && return
    rm -f "$part"
    fail "the file cannot be written"
}

have_folder() {
    [ -d "$1" ] && return
    mkdir -p "$1" && chmod 755 "$1" || fail "the folder cannot be made"
    printf made
}

# file mode owner group: write what `content` prints to a file of ours; owner and group may be empty.
put() {
    umask 077
    mkdir -p "${1%/*}" || fail "the folder cannot be made"
    open_root "${1%/*}"
    name=${1##*/}
    part=./.$name.part
    rm -f "$part"
    if content >"$part" && { [ -z "$3" ] || chown "$3" "$part"; } && { [ -z "$4" ] || chgrp "$4" "$part"; } &&
        chmod "$2" "$part" && mv -f "$part" "./$name"; then
        return
    fi
    rm -f "$part"
    fail "the file cannot be written"
}

# Mode, owner and group of a file, as ls writes them; nothing when it is not there.
rights() {
    [ -h "$1" ] && fail "it is a symbolic link; name the file itself"
    [ -e "$1" ] || return 0
    [ -f "$1" ] || fail "it is no file"
    ls -ldn "$1" | {
        read -r mode _ owner group _
        printf '%s %s %s' "$mode" "$owner" "$group"
    }
}

# The PEM certificates of a file; a key beside them stays here.
certificates() {
    sed -n '/-----BEGIN [A-Z0-9 ]*CERTIFICATE-----/,/-----END [A-Z0-9 ]*CERTIFICATE-----/p' "$1"
}

# What of a file is wanted.
wanted() {
    case $contents in
    all) cat "$1" ;;
    certificates) certificates "$1" ;;
    esac
}

# none|all|certificates file…: mode, owner, group, size and path of each file, and what is wanted of it.
gather() {
    contents=$1
    shift
    for each; do
        [ -f "$each" ] || continue
        size=-
        [ "$contents" != none ] && [ -r "$each" ] && size=$(($(wanted "$each" | wc -c)))
        ls -ldnL "$each" | {
            read -r mode _ owner group _
            printf '%s %s %s %s %s\n' "$mode" "$owner" "$group" "$size" "$each"
        }
        [ "$size" = - ] || wanted "$each" | head -c "$size"
    done
}

# The addresses of this machine, one a line.
addresses() {
    { ip -o addr show || ifconfig -a; } 2>/dev/null |
        tr -s ' \t' '\n\n' | sed -n -e 's/^addr://' -e 's/[/%].*$//' -e '/^[0-9a-fA-F]*[.:][0-9a-fA-F.:]*$/p'
}
