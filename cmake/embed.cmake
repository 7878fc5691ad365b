# Writes a C++ file with files as text inside: cmake -DOUT=FILE -DFILES=name=path,name=path
# -DHEADER=FILE -DNAMESPACE=NAME -P this. The header declares them as extern const std::string_view.
set(text "#include \"${HEADER}\"\n\nnamespace ${NAMESPACE} {\n")
string(REPLACE "," ";" files "${FILES}")
foreach(pair IN LISTS files)
  string(FIND "${pair}" "=" at)
  string(SUBSTRING "${pair}" 0 ${at} name)
  math(EXPR at "${at} + 1")
  string(SUBSTRING "${pair}" ${at} -1 path)
  file(READ "${path}" hex HEX)
  string(REGEX REPLACE "([0-9a-f][0-9a-f])" "0x\\1," bytes "${hex}")
  string(APPEND text "static const unsigned char ${name}_bytes[] = {${bytes}0};\n"
                     "const std::string_view ${name}(reinterpret_cast<const char*>(${name}_bytes), "
                     "sizeof ${name}_bytes - 1);\n")
endforeach()
file(WRITE "${OUT}" "${text}}  // namespace ${NAMESPACE}\n")
