# Makes one C++ file of all ```cpp blocks of Markdown files: each in a namespace of its own, all that they
# include before them, and a table of their mains.
FNR == 1 { inside = 0 }
/^```cpp/ { inside = 1; ++count; where[count] = FILENAME ":" FNR; sub(/.*\//, "", where[count]); next }
/^```/ { inside = 0 }
inside {
  if ($0 ~ /^#include/) {
    if (!seen[$0]++) includes = includes $0 "\n"
  } else {
    body[count] = body[count] $0 "\n"
  }
}
END {
  print "// Made from the documentation.\n" includes "#include \"tool/docs_blocks.hpp\"\n"
  for (i = 1; i <= count; ++i) print "namespace block_" i " {\n" body[i] "}\n"
  print "namespace photonlane::test {\nstd::vector<DocBlock> doc_blocks() {\n  return {"
  for (i = 1; i <= count; ++i) print "      {\"" where[i] "\", block_" i "::main},"
  print "  };\n}\n}  // namespace photonlane::test"
}
