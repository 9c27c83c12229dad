# find_package(porphyry) gives the target porphyry::porphyry.
include(CMakeFindDependencyMacro)
find_dependency(fmt)
include("${CMAKE_CURRENT_LIST_DIR}/porphyry-targets.cmake")
