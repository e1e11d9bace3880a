# jembatan_folder(NAME [COLD] USES lower folders and packages…): one folder under src is one library that links only
# what stands below it. COLD: no request passes here, so a build without symbols optimises it little.
function(jembatan_folder name)
  cmake_parse_arguments(arg "COLD" "" "USES" ${ARGN})
  file(GLOB sources CONFIGURE_DEPENDS ${CMAKE_SOURCE_DIR}/src/${name}/*.cpp)
  add_library(jembatan_${name} STATIC ${sources})
  target_include_directories(jembatan_${name} PUBLIC ${CMAKE_SOURCE_DIR}/src)
  target_link_libraries(jembatan_${name} PUBLIC ${arg_USES})
  if(arg_COLD)
    jembatan_cold(jembatan_${name})
  endif()
  jembatan_unity(jembatan_${name})
endfunction()

# jembatan_cold(TARGET): optimises it little in a build without symbols, and not at all under sanitizers.
function(jembatan_cold target)
  if(JEMBATAN_SANITIZE)
    target_compile_options(${target} PRIVATE -O0)
  else()
    target_compile_options(${target} PRIVATE $<$<CONFIG:Release>:-O1>)
  endif()
endfunction()

# jembatan_little_sanitized(TARGET): without the checks of undefined behaviour, of what a person waits for and no stranger sends to.
function(jembatan_little_sanitized target)
  if(JEMBATAN_SANITIZE MATCHES undefined)
    target_compile_options(${target} PRIVATE -fno-sanitize=undefined)
  endif()
endfunction()

# jembatan_unity(TARGET): compiles its sources several at a time, if that is wanted: headers and templates are most of
# what a source costs. So names in unnamed namespaces are unique in their folder.
function(jembatan_unity target)
  if(JEMBATAN_UNITY)
    set_target_properties(${target} PROPERTIES UNITY_BUILD ON UNITY_BUILD_BATCH_SIZE 10)
  endif()
endfunction()

# jembatan_embed(TARGET HEADER_NAME FOLDER files…): makes the files' texts part of the program, so that it needs
# no data folder to run.
function(jembatan_embed target symbol folder)
  set(out ${CMAKE_CURRENT_BINARY_DIR}/${symbol}.cpp)
  set(inputs)
  foreach(file IN LISTS ARGN)
    list(APPEND inputs ${folder}/${file})
  endforeach()
  string(REPLACE ";" "," joined "${ARGN}")
  add_custom_command(
    OUTPUT ${out}
    COMMAND ${CMAKE_COMMAND} -DOUT=${out} -DSYMBOL=${symbol} -DFOLDER=${folder} -DFILES=${joined}
            -P ${CMAKE_SOURCE_DIR}/cmake/embed.cmake
    DEPENDS ${inputs} ${CMAKE_SOURCE_DIR}/cmake/embed.cmake
    VERBATIM)
  target_sources(${target} PRIVATE ${out})
endfunction()
