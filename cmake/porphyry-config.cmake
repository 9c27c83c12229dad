# find_package(porphyry) gives the target porphyry::porphyry, and porphyry::passes for shared
# libraries of passes, which programs load.
include(CMakeFindDependencyMacro)
find_dependency(fmt)
include("${CMAKE_CURRENT_LIST_DIR}/porphyry-targets.cmake")
