# Installs the build into a prefix of its own, then configures, builds and runs a project against it,
# once by find_package and once by pkg-config.
function(run)
  execute_process(COMMAND ${ARGN} RESULT_VARIABLE code OUTPUT_VARIABLE text ERROR_VARIABLE text)
  if(NOT code EQUAL 0)
    message(FATAL_ERROR "${ARGN}\n${text}")
  endif()
  set(output "${text}" PARENT_SCOPE)
endfunction()

file(REMOVE_RECURSE ${WORK})
file(MAKE_DIRECTORY ${WORK})
run(${CMAKE_COMMAND} --install ${BUILD} --prefix ${WORK}/prefix)
run(${CMAKE_COMMAND} -S ${SOURCE} -B ${WORK}/build -G ${GENERATOR}
    -DCMAKE_PREFIX_PATH=${WORK}/prefix -DCMAKE_BUILD_TYPE=Release)
run(${CMAKE_COMMAND} --build ${WORK}/build)
run(${CMAKE_COMMAND} -E chdir ${WORK} ${WORK}/build/outside)
if(NOT output MATCHES "hits 64" OR NOT EXISTS ${WORK}/outside.png)
  message(FATAL_ERROR "the outside program said: ${output}")
endif()

# The installed tool finds its demo scenes beside itself.
run(${WORK}/prefix/bin/photonlane check ${WORK}/prefix/share/photonlane/demo/glasshouse-plan.yaml)

file(GLOB_RECURSE pc ${WORK}/prefix/photonlane.pc)
get_filename_component(pc_dir ${pc} DIRECTORY)
set(ENV{PKG_CONFIG_PATH} ${pc_dir})
run(sh -c "g++ -std=c++20 '${SOURCE}/main.cpp' -o '${WORK}/by_pkg_config' $(pkg-config --static --cflags --libs photonlane)")
run(${CMAKE_COMMAND} -E chdir ${WORK} ${WORK}/by_pkg_config)
if(NOT output MATCHES "hits 64")
  message(FATAL_ERROR "the program built by pkg-config said: ${output}")
endif()
