# embed_templates(OUT FILES...): a source file that holds the text of each file, by its name, for
# report/templates.h.
function(embed_templates out)
  set(cases "")
  foreach(path ${ARGN})
    set_property(DIRECTORY APPEND PROPERTY CMAKE_CONFIGURE_DEPENDS "${path}")
    get_filename_component(name "${path}" NAME)
    file(READ "${path}" text)
    string(APPEND cases "  if (name == \"${name}\") return R\"~~~(${text})~~~\";\n")
  endforeach()
  file(CONFIGURE OUTPUT "${out}" @ONLY CONTENT
"#include \"kestrum/report/templates.h\"

namespace kestrum {

std::string_view template_text(std::string_view name) {
@cases@  return {};
}

}  // namespace kestrum
")
endfunction()
