#include "icefield/report/mesh_page.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>
#include <string_view>

// The script, as web/build.sh makes it, put into the program as it is.
asm(R"(
    .section .rodata
    .global icefield_mesh_page_script
    .global icefield_mesh_page_script_end
icefield_mesh_page_script:
    .incbin ")" ICEFIELD_MESH_PAGE_SCRIPT R"("
icefield_mesh_page_script_end:
    .byte 0
    .previous
)");
extern "C" const char icefield_mesh_page_script[];
extern "C" const char icefield_mesh_page_script_end[];

namespace icefield {
namespace {

std::string escaped(std::string_view text) {
  std::string out;
  for (const char c : text) {
    if (c == '&')
      out += "&amp;";
    else if (c == '<')
      out += "&lt;";
    else if (c == '>')
      out += "&gt;";
    else if (c == '"')
      out += "&quot;";
    else
      out += c;
  }
  return out;
}

// JSON within a page: nothing in it may end the script that holds it.
std::string within_script(std::string text) {
  for (std::size_t at = 0; (at = text.find("</", at)) != std::string::npos; at += 3) text.replace(at, 2, "<\\/");
  return text;
}

// Tones of src/draw/palette.h.
constexpr std::string_view kStyle = R"(
:root { --ground: #ecf0f2; --ink: #1b2126; --quiet: #4d5a62; --line: #13456b; --paper: #ffffff; }
* { box-sizing: border-box; }
html, body { height: 100%; margin: 0; }
body { display: flex; flex-direction: column; background: var(--ground); color: var(--ink);
       font: 16px/1.4 "Source Sans 3", "DejaVu Sans", sans-serif; }
header { display: flex; flex-wrap: wrap; gap: 2px 28px; align-items: baseline;
         padding: 10px 18px; background: var(--paper); }
h1 { font-size: 20px; font-weight: 600; margin: 0; }
dl { display: flex; flex-wrap: wrap; gap: 0 20px; margin: 0; font-size: 14px; }
dl div { display: flex; gap: 6px; }
dt { color: var(--quiet); }
dd { margin: 0; font-variant-numeric: tabular-nums; }
main { flex: 1; min-height: 0; position: relative; }
#view { position: absolute; inset: 0; }
#view canvas { display: block; outline-offset: -3px; }
#still { display: block; margin: auto; max-width: 100%; max-height: 100%; }
footer { display: flex; flex-wrap: wrap; gap: 8px 18px; align-items: center;
         padding: 8px 18px; background: var(--paper); min-height: 52px; }
#ways, #moves { display: none; gap: 6px; }
.drawn #ways, .drawn #moves { display: flex; }
button { font: inherit; font-size: 15px; padding: 4px 12px; border: 1px solid var(--line); border-radius: 3px;
         background: var(--paper); color: var(--line); cursor: pointer; }
button[aria-pressed="true"] { background: var(--line); color: var(--paper); }
button:focus-visible, canvas:focus-visible { outline: 3px solid #b04514; }
#said { font-size: 15px; color: var(--ink); font-variant-numeric: tabular-nums; }
@media print { footer { display: none; } }
)";

}  // namespace

std::string base64(std::string_view bytes) {
  constexpr char kLetters[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  std::string out;
  out.reserve((bytes.size() + 2) / 3 * 4);
  for (std::size_t i = 0; i < bytes.size(); i += 3) {
    unsigned group = 0;
    for (std::size_t k = 0; k < 3; ++k)
      group = group << 8 | (i + k < bytes.size() ? static_cast<unsigned char>(bytes[i + k]) : 0u);
    for (std::size_t k = 0; k < 4; ++k) out += i + k > bytes.size() ? '=' : kLetters[group >> (18 - 6 * k) & 63];
  }
  return out;
}

std::string mesh_page(const MeshPage& page) {
  const std::string_view script(icefield_mesh_page_script,
                                static_cast<std::size_t>(icefield_mesh_page_script_end - icefield_mesh_page_script));
  const nlohmann::ordered_json about = {{"units", page.units},
                                        {"origin", {page.origin.x(), page.origin.y(), page.origin.z()}}};
  std::string html;
  html.reserve(script.size() + page.glb.size() * 4 / 3 + page.still.size() * 4 / 3 + 10000);
  html +=
      "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n"
      "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n";
  html += fmt::format("<title>{}</title>\n<style>{}</style>\n</head>\n<body>\n<header><h1>{}</h1>\n<dl>",
                      escaped(page.title), kStyle, escaped(page.title));
  for (const auto& [name, value] : page.facts)
    html += fmt::format("<div><dt>{}</dt><dd>{}</dd></div>", escaped(name), escaped(value));
  html += "</dl></header>\n<main><div id=\"view\">";
  if (!page.still.empty())
    html += fmt::format("<img id=\"still\" alt=\"The mesh from one side\" src=\"data:image/png;base64,{}\">",
                        base64(page.still));
  html +=
      "</div></main>\n<footer><div id=\"ways\" role=\"group\" aria-label=\"How it is painted\"></div>\n"
      "<div id=\"moves\"><button id=\"turn\" aria-pressed=\"false\" title=\"Key t\">Turn</button>"
      "<button id=\"home\" title=\"Key h\">Whole</button></div>\n"
      "<div id=\"said\" role=\"status\"></div>\n"
      "<noscript>Without scripts only this picture is shown.</noscript></footer>\n";
  html += "<script type=\"application/json\" id=\"about\">" + within_script(about.dump()) + "</script>\n";
  html += "<script type=\"application/octet-stream\" id=\"mesh\">" + base64(page.glb) + "</script>\n<script>\n";
  html.append(script);
  html += "\n</script>\n</body>\n</html>\n";
  return html;
}

}  // namespace icefield
