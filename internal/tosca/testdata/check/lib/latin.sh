echo one
echo café
