#!/bin/sh
# Stands in for the system's command of macOS: keeps its state in files below STATE, takes exactly the arguments that the real one
# documents, and fails on demand: a file fail-VERB below STATE holds the words with which VERB is to fail.
STATE=@STATE@
say() { echo "security: $*" >&2; exit 1; }
fingerprint() { sed -n '/^-----BEGIN/,/^-----END/p' "$1" | grep -v -- '-----' | base64 -d | sha1sum | cut -c1-40 | tr a-f A-F; }
keychain() { [ -e "$1" ] || say "SecKeychainSearchCreateFromAttributes: The specified keychain could not be found."; echo "$STATE/$(echo "$1" | tr / _)"; }
verb=$1; shift
echo "$verb $*" >> "$STATE/calls"
[ -e "$STATE/fail-$verb" ] && say "$(cat "$STATE/fail-$verb")"
if [ "$verb" = -i ]; then
    # import "FILE" -k "KEYCHAIN" -f pkcs12 -P "PASSPHRASE": opened by the program under test, since a shell cannot.
    read -r line
    case $line in 'import "'*'" -k "'*'" -f pkcs12 -P "'*'"') ;; *) say "not understood: $line" ;; esac
    file=${line#import \"}; file=${file%%\"*}
    place=${line#*-k \"}; place=${place%%\"*}
    secret=${line#*-P \"}; secret=${secret%\"}
    [ "$(stat -c %a "$file")" = 600 ] || say "others may read $file"
    folder=$(keychain "$place") || exit 1
    mkdir -p "$folder" "$STATE/keys"
    OPENS=$secret @TAMGA@ export "$file" --as combined-pem --output "$STATE/all" --passphrase-env OPENS >/dev/null 2>&1 || say "MAC verification failed"
    grep -q 'PRIVATE KEY' "$STATE/all" || say "no key came along"
    sed -n '/BEGIN CERTIFICATE/,/END CERTIFICATE/p' "$STATE/all" > "$STATE/leaf"
    hash=$(fingerprint "$STATE/leaf"); mv "$STATE/leaf" "$folder/$hash.pem"; : > "$STATE/keys/$hash"; rm "$STATE/all"
    exit 0
fi
domain=user
[ "$1" = -d ] && { domain=admin; shift; }
settings=$STATE/settings-$domain
mkdir -p "$settings"
case $verb in
find-certificate)
    [ "$1 $2" = "-a -p" ] && [ $# = 3 ] || say "Usage: find-certificate"
    folder=$(keychain "$3") || exit 1
    cat "$folder"/*.pem 2>/dev/null
    exit 0 ;;
find-identity)
    [ $# = 1 ] || say "Usage: find-identity"
    folder=$(keychain "$1") || exit 1
    echo; echo 'Policy: X.509 Basic'; echo '  Matching identities'
    n=0
    for f in "$folder"/*.pem; do
        h=$(basename "$f" .pem)
        [ -e "$STATE/keys/$h" ] && { n=$((n+1)); echo "  $n) $h \"somebody\""; }
    done
    echo "     $n identities found"
    exit 0 ;;
delete-identity)
    [ "$1" = -Z ] && [ $# = 3 ] || say "Usage: delete-identity [-c name] [-Z hash] [-t] [keychain...]"
    folder=$(keychain "$3") || exit 1
    [ -e "$STATE/keys/$2" ] || say "Unable to delete identity matching \"$2\""
    rm "$STATE/keys/$2" "$folder/$2.pem" ;;
trust-settings-export)
    [ $# = 1 ] || say "Usage: trust-settings-export [-d] settings_file"
    set -- "$1" "$settings"/*
    [ -e "$2" ] || say "SecTrustSettingsCreateExternalRepresentation: No Trust Settings were found."
    out=$1; shift
    {
        echo '<?xml version="1.0" encoding="UTF-8"?>'
        echo '<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">'
        echo '<plist version="1.0"><dict><key>trustList</key><dict>'
        for f in "$@"; do
            echo "<key>$(basename "$f")</key><dict><key>modDate</key><date>2026-11-25T10:00:00Z</date><key>trustSettings</key><array>"
            for policy in sslServer basicX509; do
                echo "<dict><key>kSecTrustSettingsPolicyName</key><string>$policy</string><key>kSecTrustSettingsResult</key><integer>$(cat "$f")</integer></dict>"
            done
            echo '</array></dict>'
        done
        echo '</dict><key>trustVersion</key><integer>1</integer></dict></plist>'
    } > "$out" ;;
add-certificates)
    [ "$1" = -k ] && [ $# = 3 ] || say "Usage: add-certificates [-k keychain] file..."
    folder=$(keychain "$2") || exit 1
    mkdir -p "$folder"; hash=$(fingerprint "$3")
    [ -e "$folder/$hash.pem" ] && say "SecCertificateAddToKeychain: The specified item already exists in the keychain."
    cp "$3" "$folder/$hash.pem" ;;
add-trusted-cert)
    [ "$1 $2 $3 $4 $5 $6 $7" = "-r trustRoot -p ssl -p basic -k" ] && [ $# = 9 ] || say "Usage: add-trusted-cert"
    folder=$(keychain "$8") || exit 1
    mkdir -p "$folder"; hash=$(fingerprint "$9")
    cp "$9" "$folder/$hash.pem"; echo 1 > "$settings/$hash" ;;
remove-trusted-cert)
    [ $# = 1 ] || say "Usage: remove-trusted-cert [-d] [-D] [certFile]"
    hash=$(fingerprint "$1")
    [ -e "$settings/$hash" ] || say "SecTrustSettingsRemoveTrustSettings: The specified item could not be found in the keychain."
    rm "$settings/$hash" ;;
delete-certificate)
    [ "$1" = -Z ] && [ $# = 3 ] || say "Usage: delete-certificate [-c name] [-Z hash] [-t] [keychain...]"
    folder=$(keychain "$3") || exit 1
    [ -e "$folder/$2.pem" ] || say "Unable to delete certificate matching \"$2\""
    rm "$folder/$2.pem" ;;
*) say "unknown command \"$verb\"" ;;
esac
