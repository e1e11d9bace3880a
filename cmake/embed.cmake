# Writes OUT: a C++ source with the texts of FILES (comma-separated, below FOLDER) as jembatan::SYMBOL().
string(REPLACE "," ";" names "${FILES}")
set(body "#include \"base/embedded.h\"\n\nnamespace jembatan {\nstd::span<const EmbeddedFile> ${SYMBOL}() {\n  static const EmbeddedFile files[] = {\n")
foreach(name IN LISTS names)
  file(READ ${FOLDER}/${name} text)
  string(APPEND body "      {\"${name}\", R\"embedded(${text})embedded\"},\n")
endforeach()
string(APPEND body "  };\n  return files;\n}\n}  // namespace jembatan\n")
file(WRITE ${OUT} "${body}")
