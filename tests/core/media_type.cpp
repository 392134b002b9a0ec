#include "core/http/media_type.hpp"

#include <catch2/catch.hpp>

using namespace porter::http;

TEST_CASE("file names have the media types that browsers need") {
  struct Row {
    std::string_view name;
    std::string type;
  };
  const auto row = GENERATE(values<Row>({
      {"a.html", "text/html; charset=utf-8"},
      {"A.HTML", "text/html; charset=utf-8"},
      {"style.css", "text/css; charset=utf-8"},
      {"app.js", "text/javascript; charset=utf-8"},
      {"app.mjs", "text/javascript; charset=utf-8"},
      {"app.wasm", "application/wasm"},
      {"chart.svg", "image/svg+xml"},
      {"photo.avif", "image/avif"},
      {"photo.webp", "image/webp"},
      {"font.woff2", "font/woff2"},
      {"site.webmanifest", "application/manifest+json"},
      {"archive.tar.gz", "application/gzip"},
      {"noending", "application/octet-stream"},
      {"dot.", "application/octet-stream"},
      {"model.glb", "model/gltf-binary"},
      {"quay.TIDE", "text/x-tide; charset=utf-8"},
      {"quay.old", "text/html; charset=latin1"},
      {"app.ts", "text/typescript; charset=utf-8"},
      {"app.jsx", "text/javascript; charset=utf-8"},
      {"app.js.map", "application/json"},
      {"page.unknown", "application/octet-stream"},
  }));
  CAPTURE(row.name);
  const auto more = parse_type_list("# comment\nmodel/gltf-binary\tglb  gltf2 # more\n\ntext/x-css css\nempty/type\n");
  CHECK(media_type(row.name, {{"tide", "text/x-tide"}, {"old", "text/html; charset=latin1"}}, more) == row.type);
}

TEST_CASE("types that gain from compression are known") {
  CHECK(compresses_well("text/html; charset=utf-8"));
  CHECK(compresses_well("image/svg+xml"));
  CHECK(compresses_well("application/json"));
  CHECK_FALSE(compresses_well("image/png"));
  CHECK_FALSE(compresses_well("font/woff2"));
}
