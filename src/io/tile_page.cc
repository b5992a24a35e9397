#include "src/io/tile_page.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

namespace icefield {
namespace {

// Tones of src/draw/palette.h.
constexpr const char* kStyle = R"(
:root { --ground: #ecf0f2; --ink: #1b2126; --quiet: #4d5a62; --line: #13456b; --paper: #ffffff; }
* { box-sizing: border-box; }
html, body { height: 100%; margin: 0; }
body { display: flex; flex-direction: column; background: var(--ground); color: var(--ink);
       font: 16px/1.4 "Source Sans 3", "DejaVu Sans", sans-serif; }
header { display: flex; flex-wrap: wrap; gap: 2px 28px; align-items: center; padding: 8px 18px;
         background: var(--paper); }
h1 { font-size: 20px; font-weight: 600; margin: 0; flex: 1; }
#place { color: var(--quiet); font-size: 14px; font-variant-numeric: tabular-nums; }
button { font: inherit; min-width: 36px; min-height: 36px; border: 1px solid var(--quiet); background: var(--paper);
         color: var(--ink); border-radius: 3px; cursor: pointer; }
button:focus-visible, #map:focus-visible { outline: 3px solid var(--line); outline-offset: -3px; }
#map { position: relative; flex: 1; overflow: hidden; touch-action: none; cursor: grab; }
#map img { position: absolute; user-select: none; pointer-events: none; }
#bar { position: absolute; left: 16px; bottom: 16px; z-index: 2; background: rgba(255, 255, 255, 0.85);
       padding: 4px 8px; font-size: 13px; }
#bar div { height: 6px; background: var(--ink); margin-top: 2px; }
noscript { padding: 18px; }
)";

constexpr const char* kScript = R"(
const of = JSON.parse(document.getElementById('about').textContent);
const map = document.getElementById('map'), place = document.getElementById('place');
const bar = document.getElementById('bar');
// The middle of the window in the net, and units of the net for a pixel of the screen.
let middle = [(of.low[0] + of.high[0]) / 2, (of.low[1] + of.high[1]) / 2], scale = 1;
const shown = new Map();
const finest = of.square / of.side / 2 ** of.highest;
function fit() {
  const w = map.clientWidth, h = map.clientHeight;
  middle = [(of.low[0] + of.high[0]) / 2, (of.low[1] + of.high[1]) / 2];
  scale = 1.05 * Math.max((of.high[0] - of.low[0]) / w, (of.high[1] - of.low[1]) / h);
  draw();
}
// Lengths on the ground for one of the net, in the window's middle.
function ground() {
  if (!of.on_earth) return 1;
  return 1 / Math.cosh(middle[1] / 6378137);
}
function draw() {
  const w = map.clientWidth, h = map.clientHeight;
  const wanted = Math.ceil(Math.log2(of.square / of.side / scale) - 0.25);
  const level = Math.min(of.highest, Math.max(of.lowest, wanted));
  const size = of.square / 2 ** level;
  const left = middle[0] - w * scale / 2, top = middle[1] + h * scale / 2;
  const last = 2 ** level - 1, keep = new Set();
  const x0 = Math.max(0, Math.floor((Math.max(left, of.low[0]) - of.origin[0]) / size));
  const x1 = Math.min(last, Math.floor((Math.min(left + w * scale, of.high[0]) - of.origin[0]) / size));
  const y0 = Math.max(0, Math.floor((of.origin[1] - Math.min(top, of.high[1])) / size));
  const y1 = Math.min(last, Math.floor((of.origin[1] - Math.max(top - h * scale, of.low[1])) / size));
  for (let y = y0; y <= y1; ++y) for (let x = x0; x <= x1; ++x) {
    const name = level + '/' + x + '/' + y + '.png';
    keep.add(name);
    let tile = shown.get(name);
    if (!tile) {
      tile = document.createElement('img');
      tile.alt = '';
      tile.draggable = false;
      tile.onerror = () => { tile.style.display = 'none'; };
      tile.src = name;
      shown.set(name, tile);
      map.appendChild(tile);
    }
    // Edges of neighbours fall on the same pixel.
    const px = Math.round((of.origin[0] + x * size - left) / scale);
    const py = Math.round((top - of.origin[1] + y * size) / scale);
    const qx = Math.round((of.origin[0] + (x + 1) * size - left) / scale);
    const qy = Math.round((top - of.origin[1] + (y + 1) * size) / scale);
    tile.style.left = px + 'px'; tile.style.top = py + 'px';
    tile.style.width = (qx - px) + 'px'; tile.style.height = (qy - py) + 'px';
    tile.style.imageRendering = scale < finest / 1.5 ? 'pixelated' : 'auto';
  }
  for (const [name, tile] of shown) if (!keep.has(name)) { tile.remove(); shown.delete(name); }
  const metres = scale * ground(), most = 160 * metres, unit = 10 ** Math.floor(Math.log10(most));
  const length = unit * (most / unit >= 5 ? 5 : most / unit >= 2 ? 2 : 1);
  bar.firstChild.textContent = +length.toPrecision(3) + ' ' + (of.on_earth ? 'm' : of.units);
  bar.lastChild.style.width = length / metres + 'px';
}
function zoom(by, x, y) {
  const w = map.clientWidth, h = map.clientHeight;
  const next = Math.min(of.square / of.side * 2, Math.max(finest / 16, scale * by));
  middle[0] += (x - w / 2) * (scale - next);
  middle[1] -= (y - h / 2) * (scale - next);
  scale = next;
  draw();
}
function move(dx, dy) { middle[0] -= dx * scale; middle[1] += dy * scale; draw(); }
let held = null;
map.addEventListener('pointerdown', e => { held = [e.clientX, e.clientY]; map.setPointerCapture(e.pointerId); });
map.addEventListener('pointerup', () => { held = null; });
map.addEventListener('pointermove', e => {
  if (held) { move(e.clientX - held[0], e.clientY - held[1]); held = [e.clientX, e.clientY]; }
  const box = map.getBoundingClientRect();
  const x = middle[0] + (e.clientX - box.left - box.width / 2) * scale;
  const y = middle[1] - (e.clientY - box.top - box.height / 2) * scale;
  if (of.on_earth) {
    const lat = (2 * Math.atan(Math.exp(y / 6378137)) - Math.PI / 2) * 180 / Math.PI;
    place.textContent = lat.toFixed(6) + ', ' + (x / 6378137 * 180 / Math.PI).toFixed(6);
  } else {
    place.textContent = x.toPrecision(6) + ', ' + y.toPrecision(6) + ' ' + of.units;
  }
});
map.addEventListener('wheel', e => {
  e.preventDefault();
  const box = map.getBoundingClientRect();
  zoom(e.deltaY > 0 ? 1.25 : 0.8, e.clientX - box.left, e.clientY - box.top);
}, {passive: false});
const centred = by => zoom(by, map.clientWidth / 2, map.clientHeight / 2);
map.addEventListener('keydown', e => {
  const way = {ArrowLeft: [80, 0], ArrowRight: [-80, 0], ArrowUp: [0, 80], ArrowDown: [0, -80]}[e.key];
  if (way) move(...way);
  else if (e.key === '+' || e.key === '=') centred(0.8);
  else if (e.key === '-') centred(1.25);
  else if (e.key === '0') fit();
  else return;
  e.preventDefault();
});
document.getElementById('nearer').onclick = () => centred(0.5);
document.getElementById('farther').onclick = () => centred(2);
document.getElementById('whole').onclick = fit;
new ResizeObserver(draw).observe(map);
fit();
)";

std::string escaped(const std::string& text) {
  std::string out;
  for (const char c : text) out += c == '&' ? "&amp;" : c == '<' ? "&lt;" : c == '>' ? "&gt;" : std::string(1, c);
  return out;
}

}  // namespace

std::string tile_page(const TilePage& page) {
  const auto pair = [](const Eigen::Vector2d& p) { return nlohmann::json{p.x(), p.y()}; };
  std::string about =
      nlohmann::ordered_json{{"on_earth", page.on_earth},   {"units", page.units},   {"lowest", page.lowest},
                             {"highest", page.highest},     {"side", page.side},     {"square", page.square},
                             {"origin", pair(page.origin)}, {"low", pair(page.low)}, {"high", pair(page.high)}}
          .dump();
  for (std::size_t at = 0; (at = about.find("</", at)) != std::string::npos; at += 3) about.replace(at, 2, "<\\/");
  return "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" "
         "content=\"width=device-width\">\n<title>" +
         escaped(page.title) + "</title>\n<style>" + kStyle + "</style>\n</head>\n<body>\n<header><h1>" +
         escaped(page.title) +
         "</h1><span id=\"place\"></span><span><button id=\"nearer\" aria-label=\"nearer\">+</button> <button "
         "id=\"farther\" aria-label=\"farther\">&minus;</button> <button id=\"whole\">Whole</button></span></header>\n"
         "<noscript>The picture lies beside this page in tiles, LEVEL/COLUMN/ROW.png; tiles.json describes "
         "them.</noscript>\n<div id=\"map\" tabindex=\"0\" role=\"application\" aria-label=\"Map: arrows move it, plus "
         "and minus change the scale, 0 shows the whole\"><div id=\"bar\"><span></span><div></div></div></div>\n"
         "<script type=\"application/json\" id=\"about\">" +
         about + "</script>\n<script>" + kScript + "</script>\n</body>\n</html>\n";
}

}  // namespace icefield
