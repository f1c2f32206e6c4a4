# Keeps the rotas of the huts, each in a file of the folder rotas, beside the template: the hut, its
# keepers, and who is next. It is called by Brick Row; docs/own-types.md tells how.
set -e
in=$(cat)

# What stands in the call: its texts, and the texts and lists among its properties.
text() { printf '%s' "$in" | sed -n 's/.*"'"$1"'":"\([^"]*\)".*/\1/p'; }
properties=$(printf '%s' "$in" | sed 's/.*"properties":{\([^}]*\)}.*/\1/')
property() { printf '%s' "$properties" | sed -n 's/.*"'"$1"'":"\([^"]*\)".*/\1/p'; }
keepers() { printf '%s' "$properties" | sed -n 's/.*"keepers":\[\([^]]*\)\].*/\1/p' | tr -d '" ' | tr ',' ' '; }

mkdir -p rotas
operation=$(text operation)
id=$(text id)
if [ -z "$id" ]; then id=rota-$(property hut); fi # a hut has one rota: so no key makes two
file=rotas/$id

problem() {
  printf '{"problem":{"title":"%s","detail":"%s","fix":"%s"}}\n' "$1" "$2" "$3"
  exit 1
}
keep() { # keeps a rota, with who is next
  printf '%s\n' "$(property hut)" "$(keepers)" "$1" > "$file.new"
  mv "$file.new" "$file"
}
tell() { # a rota as it is
  { read -r hut; read -r names; read -r next; } < "$1"
  list=$(printf '%s' "$names" | sed 's/ /","/g')
  printf '{"id":"%s","properties":{"hut":"%s","keepers":["%s"]},"attributes":{"next":"%s"}}' "$(basename "$1")" "$hut" "$list" "$next"
}
first() { keepers | cut -d' ' -f1; }

case $operation in
create | update)
  if [ -z "$(first)" ]; then problem "nobody keeps it" "the rota of $(property hut) has no keepers" "name at least one under keepers"; fi
  printf '{"step":"writing the rota of %s","number":1,"of":1}\n' "$(property hut)"
  keep "$(first)"
  tell "$file"
  ;;
read)
  if [ -e "$file" ]; then tell "$file"; else printf '{"gone":true}'; fi
  ;;
delete)
  rm -f "$file"
  printf '{"gone":true}'
  ;;
list)
  printf '{"items":['
  comma=
  for f in rotas/*; do
    if [ -e "$f" ]; then printf '%s' "$comma"; tell "$f"; comma=,; fi
  done
  printf ']}'
  ;;
action) # turn: the next one in turn
  { read -r hut; read -r names; read -r next; } < "$file"
  after= found=
  for name in $names $names; do
    if [ -n "$found" ] && [ -z "$after" ]; then after=$name; fi
    if [ "$name" = "$next" ]; then found=yes; fi
  done
  printf '%s\n' "$hut" "$names" "${after:-$next}" > "$file.new"
  mv "$file.new" "$file"
  tell "$file"
  ;;
*) problem "unknown operation" "this program has no $operation" "" ;;
esac
echo
