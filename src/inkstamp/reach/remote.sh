# What is sent to a shell on another machine before each request: POSIX sh and its usual companions, nothing else.
# Folders may be a stranger's: document roots, and those that a program's own user has. No link in them is followed, and
# each folder is entered before it is looked at: where a name leads is known by asking where one stands, which nobody can
# change afterwards. What is written is written in a folder of our own, complete with its rights, and then takes its name.
set -u
umask 022
made=
newline='
'
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

# Nothing is there, which may be well.
absent() {
    printf '%s\n' "$1" >&2
    exit 5
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

# Whether only root or this user could have made what is named (a link of the present folder, and the folder), or may
# exchange it.
is_trusted() {
    ls -ldn "$@" | {
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

# folder [mode]: enter it; folders that are missing are made with that mode, where one is given, and `made` is set then.
open_root() {
    rest=$1
    mode_of_new=${2:-}
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
            is_trusted "./$part" . || fail "the way passes through the symbolic link “$part”, which a customer controls"
            links=$((links + 1))
            [ "$links" -le 20 ] || fail "it leads through too many symbolic links"
            line=$(ls -ldn "./$part")
            target=${line#*"./$part -> "}
            case $target in
            /*) cd / ;;
            esac
            rest=$target/$rest
        else
            inside "$part" || {
                [ -n "$mode_of_new" ] || absent "cannot open the folder: there is no “$part” in $(pwd -P)"
                mkdir -m "$mode_of_new" "./$part" 2>/dev/null && made=made
                inside "$part" || fail "the folder “$part” cannot be made"
            }
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
    in_own_folder write_file "$1" 644 '' ''
}

# command…: run it in a folder that nobody else can look or write into, made in the present one and gone afterwards.
in_own_folder() {
    own=.inkstamp.$$
    here=$(pwd -P)
    before=$newline$(own_folders)
    trap 'rmdir "./$own" 2>/dev/null; exit 3' HUP INT TERM PIPE # the connection is lost: leave nothing
    (umask 077 && mkdir "./$own") 2>/dev/null || {
        env pwd -P >/dev/null 2>&1 || gone "the folder was taken away"
        fail "user $(id -u) may not write there"
    }
    (
        # Whoever owns the folder around it may have put another one in its place; he cannot make one that is ours alone.
        cd -P "./$own" 2>/dev/null && [ "$(pwd -P)" = "${here%/}/$own" ] && is_ours_alone || exit 6
        trap 'rm -f file was; remove_own; exit 3' HUP INT TERM PIPE
        ("$@")
        status=$?
        rm -f file was
        remove_own
        exit "$status"
    )
    status=$?
    [ "$status" = 6 ] && {
        remove_new_folders
        fail "the folder “$own” was exchanged"
    }
    trap - HUP INT TERM PIPE
    return "$status"
}

is_ours_alone() {
    ls -ldn . | {
        read -r mode _ owner _
        case $mode in
        drwx------*) [ "$owner" = "$(id -u)" ] ;;
        *) false ;;
        esac
    }
}

# Remove the folder of our own, in which we stand, by whatever name and wherever it is now; who stands in a folder that
# is gone is told of no place.
remove_own() {
    tries=30
    while [ "$tries" -gt 0 ] && place=$(env pwd -P 2>/dev/null && printf .); do
        tries=$((tries - 1))
        place=${place%?.}
        (cd -P .. && rmdir "./${place##*/}") 2>/dev/null
    done
    return 0
}

# Remove the folder of our own where it was exchanged before we stood in it: it is new, ours alone, and empty. Another
# connection's, which may be all that too, is made anew by its next try.
remove_new_folders() {
    # A folder that is renamed while they are listed may be missed, so once is not enough.
    missed=0
    tries=30
    while [ "$tries" -gt 0 ] && [ "$missed" -lt 3 ]; do
        tries=$((tries - 1))
        found=$(new_folders)
        [ -n "$found" ] && missed=0 || missed=$((missed + 1))
        printf '%s\n' "$found" | while read -r name; do rmdir "./$name" 2>/dev/null; done
    done
}

new_folders() {
    own_folders | while read -r number name; do
        case $before in
        *"$newline$number "*) ;;
        *) printf '%s\n' "$name" ;;
        esac
    done
}

# Number and name of each folder in the present one that is ours alone, one a line.
own_folders() {
    me=$(id -u)
    ls -ailn 2>/dev/null | while read -r number mode _ owner _ _ _ _ _ name; do
        case $mode:$owner:$name in
        *:. | *:..) ;;
        drwx------*":$me:"*) printf '%s %s\n' "$number" "$name" ;;
        esac
    done
}

# Give `file`, in the folder of our own, its name in the folder around it: in one step where this machine's mv can be told
# not to enter what has the name; else that is removed first, and link(2) follows no link.
takes_name() {
    mv -fT file "../$1" 2>/dev/null && return
    [ -f file ] && rm -f "../$1" && link file "../$1" && rm -f file
}

# name mode owner group: write what `content` prints; owner and group may be empty.
write_file() {
    [ -h "../$1" ] || [ ! -e "../$1" ] || [ -f "../$1" ] || fail "“$1” is no file"
    content >file && { [ -z "$3" ] || chown -h "$3" file; } && { [ -z "$4" ] || chgrp -h "$4" file; } &&
        chmod "$2" file && takes_name "$1" || fail "the file “$1” cannot be written"
}

# name: put what `content` prints into the place of a file, with its rights.
write_over() {
    hold_file "$1"
    cp -p "$held" file && content >file && takes_name "$1" || fail "the file “$1” cannot be written"
}

# Hold on to the file $1 of the folder around: as `was`, in the folder of our own, it cannot be exchanged any more.
hold_file() {
    if link "../$1" was 2>/dev/null; then
        held=was
    else # no hard links there, or not to others' files: good enough where no stranger can exchange anything
        is_trusted .. || fail "“$1” cannot be held on to while it is read"
        held=../$1
    fi
    expect_file "$held"
}

expect_file() {
    [ -h "$1" ] && fail "it is a symbolic link; name the file itself"
    [ -f "$1" ] || fail "it is no file"
}

tell_held() {
    hold_file "$1"
    tell_file "$held"
}

# Mode, owner and group of a file, as ls writes them, on a line, and its contents.
tell_file() {
    ls -ldn "$1" | {
        read -r mode _ owner group _
        printf '%s %s %s\n' "$mode" "$owner" "$group"
    }
    cat "$1"
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

# Enter the folder that a file lies in; `name` is the file's own. Links that we trust are followed, for the file too.
open_file() {
    place=$1
    steps=0
    while :; do
        open_root "${place%/*}"
        name=${place##*/}
        [ -h "./$name" ] || break
        is_trusted "./$name" . || fail "it is a symbolic link, which a customer controls"
        steps=$((steps + 1))
        [ "$steps" -le 20 ] || fail "it leads through too many symbolic links"
        line=$(ls -ldn "./$name")
        target=${line#*"./$name -> "}
        case $target in
        /*) place=$target ;;
        *) place=$(pwd -P)/$target ;;
        esac
    done
}

replace() {
    open_file "$1"
    [ -f "./$name" ] || fail "there is no such file"
    in_own_folder write_over "$name"
}

have_folder() {
    open_root "$1" 755
    printf '%s' "$made"
}

drop_folder() {
    (open_root "${1%/*}") 2>/dev/null || return 0
    open_root "${1%/*}"
    rmdir "./${1##*/}" 2>/dev/null || :
}

# Remove a file, and what a run that was cut off left beside it.
remove() {
    (open_root "${1%/*}") 2>/dev/null || return 0
    open_root "${1%/*}"
    rm -f "./${1##*/}" "./.${1##*/}.part" || fail "it cannot be removed"
}

# file mode owner group: write what `content` prints to a file of ours, in folders that are made where they are missing.
put() {
    open_root "${1%/*}" 700
    in_own_folder write_file "${1##*/}" "$2" "$3" "$4" || return
    rm -f "./.${1##*/}.part" # a release before wrote it first
}

# What `tell_file` says of a file; nothing when it is not there. No link is followed, and what is told belongs together,
# whatever is exchanged meanwhile.
present() {
    (open_root "${1%/*}") || {
        status=$?
        [ "$status" = 5 ] && return 0
        exit "$status"
    }
    open_root "${1%/*}"
    [ -h "./${1##*/}" ] || [ -e "./${1##*/}" ] || return 0
    if is_trusted .; then
        expect_file "./${1##*/}"
        tell_file "./${1##*/}"
    else
        in_own_folder tell_held "${1##*/}"
    fi
}

# What is no file is not waited for.
read_file() {
    [ -f "$1" ] || {
        [ -e "$1" ] && fail "it is no file"
        fail "there is no such file"
    }
    cat "$1"
}

# The PEM certificates of a file; a key beside them stays here.
certificates() {
    [ -f "$1" ] || fail "there is no such file"
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
        case $each in *"$newline"*) continue ;; esac # it would be taken for the end of the line that tells it
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
