#!/bin/sh
# Stands in for the PowerShell of a Windows beside WSL: understands exactly the statements that Tamga writes, keeps each store in a
# folder below STATE (a certificate's Base64 on the first line, its friendly name on the second) and fails on demand: a file
# fail-add or fail-remove holds the words of the failure. A file administrator makes IsInRole say True.
STATE=@STATE@
[ "$1 $2 $3 $4" = "-NoProfile -NonInteractive -Command -" ] && [ $# = 4 ] || { echo "powershell: bad arguments $*" >&2; exit 64; }
read -r line || exit 0
case $line in
"try { \$ErrorActionPreference='Stop'; "*"; exit 0 } catch { [Console]::Error.WriteLine(\$_.Exception.Message); exit 1 }") ;;
*) echo "powershell: not the expected frame" >&2; exit 64 ;;
esac
store=; place=; access=; certificate=; friendly=
refuse() { echo "$*" >&2; exit 1; }
folder() { mkdir -p "$STATE/$place-$store"; echo "$STATE/$place-$store"; }
name_of() { printf %s "$certificate" | sha256sum | cut -c1-32; }
body=${line#"try { \$ErrorActionPreference='Stop'; "}
body=${body%"; exit 0 } catch { [Console]::Error.WriteLine(\$_.Exception.Message); exit 1 }"}
# Statements end with "; "; none of ours has that inside but the loop, whose body is one statement.
printf '%s\n' "$body" | sed 's/; /\n/g' > "$STATE/statements"
while read -r statement; do
    case $statement in
    "\$p=New-Object Security.Principal.WindowsPrincipal([Security.Principal.WindowsIdentity]::GetCurrent())") ;;
    "[Console]::Out.WriteLine('rights ' + \$p.IsInRole([Security.Principal.WindowsBuiltInRole]::Administrator))")
        if [ -e "$STATE/administrator" ]; then printf 'rights True\r\n'; else printf 'rights False\r\n'; fi ;;
    "\$s=New-Object System.Security.Cryptography.X509Certificates.X509Store('"*"')")
        rest=${statement#*X509Store(\'}; store=${rest%%\'*}; rest=${rest#*,\'}; place=${rest%%\'*} ;;
    "\$s.Open('ReadOnly')" | "\$s.Open('ReadWrite')")
        access=${statement#*Open(\'}; access=${access%%\'*}
        [ "$access" = ReadWrite ] && [ "$place" = LocalMachine ] && [ ! -e "$STATE/administrator" ] && refuse "Access is denied." ;;
    "foreach (\$c in \$s.Certificates) { [Console]::Out.WriteLine('"*)
        word=${statement#*WriteLine(\'}; word=${word%% *}
        for f in "$(folder)"/*; do
            [ -e "$f" ] || continue
            printf '%s %s %s\r\n' "$word" "$(sed -n 1p "$f")" "$(sed -n 2p "$f" | tr -d '\n' | base64 -w0)"
        done ;;
    "\$d=[Convert]::FromBase64String('"*"')") rest=${statement#*FromBase64String(\'}; certificate=${rest%%\'*} ;;
    "\$c=New-Object System.Security.Cryptography.X509Certificates.X509Certificate2(,\$d)") ;;
    "\$c.FriendlyName='"*"'") rest=${statement#*FriendlyName=\'}; friendly=${rest%%\'*} ;;
    "\$s.Add(\$c)")
        [ "$access" = ReadWrite ] || refuse "The store is read-only."
        [ -e "$STATE/fail-add" ] && refuse "$(cat "$STATE/fail-add")"
        printf '%s\n%s\n' "$certificate" "$friendly" > "$(folder)/$(name_of)" ;;
    "\$s.Remove(\$c)")
        [ "$access" = ReadWrite ] || refuse "The store is read-only."
        [ -e "$STATE/fail-remove" ] && refuse "$(cat "$STATE/fail-remove")"
        rm -f "$(folder)/$(name_of)" ;;
    "\$s.Close()") store=; access= ;;
    *) refuse "The term '$statement' is not recognized." ;;
    esac
done < "$STATE/statements"
