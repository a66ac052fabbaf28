// The scene of one delivery: surfaces, lines, points and bodies, told from an origin; heights in their own unit.
import * as THREE from "three";
import { OrbitControls } from "orbit";

const data = JSON.parse(document.getElementById("vastgrid-scene").textContent);
const $ = (id) => document.getElementById(id);
const [east0, north0, up0] = data.origin;
// How many plan units a height unit has: proportions are true at “× 1”.
const rise = data.rise;

function numbers(text, Type) {
  const raw = atob(text);
  const bytes = new Uint8Array(raw.length);
  for (let k = 0; k < raw.length; k++) bytes[k] = raw.charCodeAt(k);
  return new Type(bytes.buffer);
}

// ------------------------------------------------------------------------------------------------- the stage
const view = $("view");
let renderer;
try {
  renderer = new THREE.WebGLRenderer({ antialias: true });
} catch (fault) {
  $("fault").style.display = "grid";
  throw fault;
}
renderer.setPixelRatio(Math.min(window.devicePixelRatio || 1, 2));
view.appendChild(renderer.domElement);
const stage = new THREE.Scene();
const ground = new THREE.Group();
stage.add(ground);
const camera = new THREE.PerspectiveCamera(40, 1, 1, 1000);
camera.up.set(0, 0, 1);
const controls = new OrbitControls(camera, renderer.domElement);
controls.screenSpacePanning = false;
controls.maxPolarAngle = Math.PI * 0.499;
const sun = new THREE.DirectionalLight(0xffffff, 3.0);
sun.position.set(-1, 1, 0.9);
const sky = new THREE.AmbientLight(0xffffff, 0.95);
stage.add(sun, sky);

const box = new THREE.Box3();
const layers = [];
const ramp = data.ramp.map((c) => new THREE.Color(c));
function shade(t) {
  const at = Math.max(0, Math.min(1, t)) * (ramp.length - 1);
  const k = Math.min(Math.floor(at), ramp.length - 2);
  return ramp[k].clone().lerp(ramp[k + 1], at - k);
}

function surfaceOf(layer) {
  const xyz = numbers(layer.places, Float32Array);
  const index = numbers(layer.corners, Uint32Array);
  const shape = new THREE.BufferGeometry();
  shape.setAttribute("position", new THREE.BufferAttribute(xyz, 3));
  shape.setIndex(new THREE.BufferAttribute(index, 1));
  const colours = new Float32Array(xyz.length);
  const [low, high] = data.heights;
  const table = [];
  for (let k = 0; k < 256; k++) table.push(shade(k / 255));
  for (let k = 0; k < xyz.length; k += 3) {
    const c = table[Math.max(0, Math.min(255, Math.round((255 * (xyz[k + 2] + up0 - low)) / (high - low || 1))))];
    colours[k] = c.r; colours[k + 1] = c.g; colours[k + 2] = c.b;
  }
  if (layer.kind === "surface") shape.setAttribute("color", new THREE.BufferAttribute(colours, 3));
  shape.computeVertexNormals();
  const paint = new THREE.MeshLambertMaterial({
    vertexColors: layer.kind === "surface", color: layer.kind === "surface" ? 0xffffff : layer.colour,
    side: THREE.DoubleSide, polygonOffset: true, polygonOffsetFactor: 1, polygonOffsetUnits: 1,
  });
  return { thing: new THREE.Mesh(shape, paint), xyz, index };
}

function linesOf(layer) {
  const xyz = numbers(layer.places, Float32Array);
  const ends = numbers(layer.offsets, Uint32Array);
  const pairs = [];
  for (let k = 0; k + 1 < ends.length; k++) for (let i = ends[k]; i + 1 < ends[k + 1]; i++) pairs.push(i, i + 1);
  const shape = new THREE.BufferGeometry();
  shape.setAttribute("position", new THREE.BufferAttribute(xyz, 3));
  shape.setIndex(new THREE.BufferAttribute(new Uint32Array(pairs), 1));
  return { thing: new THREE.LineSegments(shape, new THREE.LineBasicMaterial({ color: layer.colour })), xyz };
}

function pointsOf(layer) {
  const xyz = numbers(layer.places, Float32Array);
  const shape = new THREE.BufferGeometry();
  shape.setAttribute("position", new THREE.BufferAttribute(xyz, 3));
  const paint = { color: layer.colour, size: 2.5, sizeAttenuation: false };
  if (layer.colours) {
    shape.setAttribute("color", new THREE.BufferAttribute(numbers(layer.colours, Uint8Array), 3, true));
    paint.vertexColors = true;
    paint.color = 0xffffff;
  }
  return { thing: new THREE.Points(shape, new THREE.PointsMaterial(paint)), xyz };
}

function areasOf(layer) {
  const rims = linesOf(layer);
  const shape = new THREE.BufferGeometry();
  shape.setAttribute("position", new THREE.BufferAttribute(numbers(layer.fill, Float32Array), 3));
  shape.setIndex(new THREE.BufferAttribute(numbers(layer.corners, Uint32Array), 1));
  // In front of the ground that it lies on, and as bright from everywhere.
  const paint = new THREE.MeshBasicMaterial({
    color: layer.colour, transparent: true, opacity: 0.45, side: THREE.DoubleSide, depthWrite: false,
    polygonOffset: true, polygonOffsetFactor: -1, polygonOffsetUnits: -1,
  });
  const thing = new THREE.Group();
  thing.add(new THREE.Mesh(shape, paint), rims.thing);
  return { thing, xyz: rims.xyz };
}

for (const layer of data.layers) {
  const made = { surface: surfaceOf, mesh: surfaceOf, lines: linesOf, points: pointsOf, areas: areasOf }[layer.kind](layer);
  made.layer = layer;
  ground.add(made.thing);
  layers.push(made);
  for (const each of made.thing.geometry ? [made.thing] : made.thing.children) {
    const position = each.geometry.getAttribute("position");
    if (position.count) box.union(new THREE.Box3().setFromBufferAttribute(position));
  }
}
const surfaces = layers.filter((own) => own.layer.kind === "surface" || own.layer.kind === "mesh");

// ------------------------------------------------------------------------------------------------- the view
let exaggeration = 1;
const drawnAt = (z) => (z - (box.min.z + box.max.z) / 2) * rise * exaggeration;
function stretch() {
  // About the middle of the heights, so that the ground stays in sight.
  ground.scale.set(1, 1, rise * exaggeration);
  ground.position.z = drawnAt(0);
  ground.updateMatrixWorld(true);
  $("times").textContent = exaggeration;
  placeMark();
  draw();
}
function middle() {
  return box.getCenter(new THREE.Vector3()).setZ(0);
}
function far() {
  const size = box.getSize(new THREE.Vector3());
  const aspect = Math.min(camera.aspect, 1);
  return (Math.max(size.x, size.y, size.z * rise) / 2 / Math.tan((camera.fov * Math.PI) / 360) / aspect) * 1.15;
}
function look(direction) {
  const distance = far();
  controls.target.copy(middle());
  camera.position.copy(controls.target).addScaledVector(direction.normalize(), distance);
  camera.near = distance / 500;
  camera.far = distance * 20;
  camera.updateProjectionMatrix();
  controls.update();
  draw();
}
const showAll = () => look(new THREE.Vector3(-0.55, -1, 0.75));
const fromAbove = () => look(new THREE.Vector3(0, -0.001, 1));

let wanted = false;
function draw() {
  if (wanted) return;
  wanted = true;
  requestAnimationFrame(() => {
    wanted = false;
    renderer.render(stage, camera);
    if (!window.sceneReady) { window.sceneReady = performance.now(); document.documentElement.dataset.ready = "yes"; }
  });
}
controls.addEventListener("change", () => { draw(); if (byKeys) readAt(0, 0); });
function resize() {
  const w = view.clientWidth, h = view.clientHeight;
  renderer.setSize(w, h);
  camera.aspect = w / Math.max(h, 1);
  camera.updateProjectionMatrix();
  draw();
}
window.addEventListener("resize", resize);

// ------------------------------------------------------------------------------------------------- reading off
const ray = new THREE.Raycaster();
let byKeys = false;
function figure(value, digits) { return value.toLocaleString("en", { minimumFractionDigits: digits, maximumFractionDigits: digits, useGrouping: true }).replaceAll(",", "\u202f"); }
function hit(x, y) {
  ray.setFromCamera(new THREE.Vector2(x, y), camera);
  const found = ray.intersectObjects(surfaces.filter((own) => own.thing.visible).map((own) => own.thing), false)[0];
  if (!found) return null;
  const at = found.point;
  return { x: at.x, y: at.y, z: at.z / (rise * exaggeration) + (box.min.z + box.max.z) / 2, name: surfaces.find((own) => own.thing === found.object).layer.name };
}
function readAt(x, y) {
  const at = hit(x, y);
  const unit = data.units.plan ? " " + data.units.plan : "";
  const high = data.units.height ? " " + data.units.height : "";
  $("readout").textContent = at
    ? `E ${figure(at.x + east0, 2)}${unit}   N ${figure(at.y + north0, 2)}${unit}   Z ${figure(at.z + up0, 3)}${high}   ${at.name}`
    : "No ground here.";
  return at;
}
function place(event) {
  const r = renderer.domElement.getBoundingClientRect();
  return [((event.clientX - r.left) / r.width) * 2 - 1, 1 - ((event.clientY - r.top) / r.height) * 2];
}
let pending = null;
renderer.domElement.addEventListener("pointermove", (event) => {
  byKeys = false;
  cross.visible = false;
  if (event.buttons) return;
  pending = place(event);
  requestAnimationFrame(() => { if (pending) readAt(...pending); pending = null; });
});

// A cross in the middle of the view, for keys.
const cross = new THREE.Group();
{
  const arm = new THREE.BufferGeometry().setFromPoints([[-1, 0], [1, 0], [0, -1], [0, 1]].map(([x, y]) => new THREE.Vector3(x * 0.012, y * 0.012, -1)));
  const lines = new THREE.LineSegments(arm, new THREE.LineBasicMaterial({ color: 0xb5541c, depthTest: false }));
  lines.renderOrder = 9;
  cross.add(lines);
}
cross.visible = false;
camera.add(cross);
stage.add(camera);

// ------------------------------------------------------------------------------------------------- the section
let cutting = false;
let ends = [];
const mark = new THREE.Line(new THREE.BufferGeometry(), new THREE.LineBasicMaterial({ color: 0xb5541c, depthTest: false }));
mark.renderOrder = 8;
mark.visible = false;
stage.add(mark);
function cut(on) {
  cutting = on;
  ends = [];
  $("cut").setAttribute("aria-pressed", on);
  renderer.domElement.style.cursor = on ? "crosshair" : "";
  $("section").classList.toggle("choosing", on);
  if (on) { $("cutwords").textContent = "Choose the first end of the section."; $("profile").replaceChildren(); $("section").classList.add("shown"); }
}
function closeCut() { cut(false); $("section").classList.remove("shown"); mark.visible = false; draw(); }
function end(at) {
  if (!at) return;
  ends.push(at);
  if (ends.length === 1) { $("cutwords").textContent = "Choose the other end."; return; }
  const [a, b] = ends;
  cut(false);
  profile(a, b);
}
// Where a vertical plane through a and b cuts a surface: pairs of (distance, height).
function sliced(own, a, b) {
  const { xyz, index } = own;
  const dx = b.x - a.x, dy = b.y - a.y, length = Math.hypot(dx, dy);
  const ux = dx / length, uy = dy / length;
  const side = (i) => (xyz[3 * i] - a.x) * uy - (xyz[3 * i + 1] - a.y) * ux;
  const along = (i) => (xyz[3 * i] - a.x) * ux + (xyz[3 * i + 1] - a.y) * uy;
  const pieces = [];
  for (let t = 0; t < index.length; t += 3) {
    const corner = [index[t], index[t + 1], index[t + 2]];
    const s = corner.map(side);
    if ((s[0] > 0 && s[1] > 0 && s[2] > 0) || (s[0] < 0 && s[1] < 0 && s[2] < 0)) continue;
    const found = [];
    for (let k = 0; k < 3; k++) {
      const i = corner[k], j = corner[(k + 1) % 3], p = s[k], q = s[(k + 1) % 3];
      if ((p < 0 && q >= 0) || (p >= 0 && q < 0)) {
        const share = p / (p - q);
        found.push([along(i) + share * (along(j) - along(i)), xyz[3 * i + 2] + share * (xyz[3 * j + 2] - xyz[3 * i + 2])]);
      }
    }
    if (found.length < 2) continue;
    let [first, last] = found[0][0] <= found[1][0] ? found : [found[1], found[0]];
    if (last[0] < 0 || first[0] > length) continue;
    const at = (d) => first[1] + ((d - first[0]) / (last[0] - first[0] || 1)) * (last[1] - first[1]);
    const from = Math.max(first[0], 0), to = Math.min(last[0], length);
    pieces.push([from, at(from), to, at(to)]);
  }
  return pieces;
}
const SVG = "http://www.w3.org/2000/svg";
function drawn(name, attributes, text) {
  const own = document.createElementNS(SVG, name);
  for (const [key, value] of Object.entries(attributes)) own.setAttribute(key, value);
  if (text !== undefined) own.textContent = text;
  return own;
}
function profile(a, b) {
  const length = Math.hypot(b.x - a.x, b.y - a.y);
  if (!(length > 0)) return;
  const cuts = surfaces.filter((own) => own.thing.visible).map((own) => ({ own, pieces: sliced(own, a, b) }));
  const heights = cuts.flatMap((each) => each.pieces.flatMap((p) => [p[1], p[3]]));
  const unit = data.units.plan ? " " + data.units.plan : "", high = data.units.height ? " " + data.units.height : "";
  $("section").classList.add("shown");
  const svg = $("profile");
  svg.replaceChildren();
  $("cutwords").textContent = heights.length
    ? `Section of ${figure(length, 2)}${unit}, Z ${figure(Math.min(...heights) + up0, 2)} … ${figure(Math.max(...heights) + up0, 2)}${high}`
    : "No ground along this section.";
  const w = svg.clientWidth || 800, h = svg.clientHeight || 180, left = 62, right = 10, top = 8, bottom = 22;
  svg.setAttribute("viewBox", `0 0 ${w} ${h}`);
  if (heights.length) {
    const low = Math.min(...heights), span = Math.max(Math.max(...heights) - low, 1e-6);
    const x = (d) => left + (d / length) * (w - left - right), y = (z) => h - bottom - ((z - low) / span) * (h - top - bottom);
    for (let k = 0; k <= 4; k++) {
      const z = low + (span * k) / 4;
      svg.append(drawn("line", { x1: left, x2: w - right, y1: y(z), y2: y(z), stroke: "var(--line)" }));
      svg.append(drawn("text", { x: left - 6, y: y(z) + 4, "text-anchor": "end" }, figure(z + up0, 2)));
      const d = (length * k) / 4;
      svg.append(drawn("text", { x: x(d), y: h - 6, "text-anchor": k === 4 ? "end" : k ? "middle" : "start" }, figure(d, 1)));
    }
    cuts.forEach(({ own, pieces }, k) => {
      const path = pieces.map((p) => `M${x(p[0]).toFixed(1)} ${y(p[1]).toFixed(1)}L${x(p[2]).toFixed(1)} ${y(p[3]).toFixed(1)}`).join("");
      svg.append(drawn("path", { d: path, fill: "none", stroke: k ? own.layer.colour : "var(--action)", "stroke-width": 2, "stroke-linecap": "round" }));
    });
  }
  mark.userData.ends = [a, b];
  mark.visible = true;
  placeMark();
  draw();
}
function placeMark() {
  if (!mark.userData.ends) return;
  mark.geometry.dispose();
  mark.geometry = new THREE.BufferGeometry().setFromPoints(mark.userData.ends.map((p) => new THREE.Vector3(p.x, p.y, drawnAt(p.z))));
}
let pressed = null;
renderer.domElement.addEventListener("pointerdown", (event) => { pressed = [event.clientX, event.clientY]; });
renderer.domElement.addEventListener("pointerup", (event) => {
  if (!pressed || Math.hypot(event.clientX - pressed[0], event.clientY - pressed[1]) > 6) return;
  const at = readAt(...place(event));
  if (cutting) end(at);
});

// ------------------------------------------------------------------------------------------------- panels and keys
const list = $("layers");
for (const own of layers) {
  const label = document.createElement("label");
  const tick = document.createElement("input");
  tick.type = "checkbox";
  tick.checked = true;
  tick.addEventListener("change", () => { own.thing.visible = tick.checked; draw(); });
  const chip = document.createElement("span");
  chip.className = "chip";
  chip.style.background = own.layer.kind === "surface" ? `linear-gradient(90deg, ${data.ramp.join(",")})` : own.layer.colour;
  const name = document.createElement("span");
  name.textContent = own.layer.name;
  const count = document.createElement("span");
  count.className = "count";
  count.textContent = own.layer.counted;
  label.append(tick, chip, name, count);
  list.append(label);
}
$("about").textContent = data.about;
for (const line of data.sources) { const p = document.createElement("p"); p.textContent = line; $("sources").append(p); }
if (layers.some((own) => own.layer.kind === "surface")) {
  const bar = document.createElement("div");
  bar.className = "bar";
  bar.style.background = `linear-gradient(90deg, ${data.ramp.join(",")})`;
  const words = document.createElement("div");
  words.className = "ends";
  for (const value of data.heights) { const s = document.createElement("span"); s.textContent = figure(value, 2) + (data.units.height ? " " + data.units.height : ""); words.append(s); }
  $("legend").append(bar, words);
}
function paintTheme(dark) {
  document.documentElement.dataset.theme = dark ? "dark" : "light";
  $("theme").setAttribute("aria-pressed", dark);
  stage.background = new THREE.Color(dark ? 0x172026 : 0xf7f5f0);
  draw();
}
let dark = window.matchMedia("(prefers-color-scheme: dark)").matches;
$("theme").addEventListener("click", () => paintTheme((dark = !dark)));
$("all").addEventListener("click", showAll);
$("above").addEventListener("click", fromAbove);
$("cut").addEventListener("click", () => (cutting ? closeCut() : cut(true)));
$("close").addEventListener("click", closeCut);
function exaggerate(value) { exaggeration = Math.max(1, Math.min(10, value)); $("exaggeration").value = exaggeration; stretch(); }
$("exaggeration").addEventListener("input", (event) => exaggerate(Number(event.target.value)));

function turn(round, over) {
  const arm = camera.position.clone().sub(controls.target);
  const ball = new THREE.Spherical().setFromVector3(new THREE.Vector3(arm.x, arm.z, -arm.y));
  ball.theta += round;
  ball.phi = Math.max(0.02, Math.min(Math.PI * 0.49, ball.phi + over));
  const v = new THREE.Vector3().setFromSpherical(ball);
  camera.position.copy(controls.target).add(new THREE.Vector3(v.x, -v.z, v.y));
  controls.update();
}
function move(right, forth) {
  const step = camera.position.distanceTo(controls.target) * 0.06;
  const ahead = controls.target.clone().sub(camera.position).setZ(0);
  if (ahead.lengthSq() < 1e-12) ahead.set(0, 1, 0);
  ahead.normalize();
  const by = new THREE.Vector3(ahead.y, -ahead.x, 0).multiplyScalar(right * step).addScaledVector(ahead, forth * step);
  camera.position.add(by);
  controls.target.add(by);
  controls.update();
}
function nearer(factor) {
  camera.position.sub(controls.target).multiplyScalar(factor).add(controls.target);
  controls.update();
}
view.addEventListener("keydown", (event) => {
  const s = event.shiftKey;
  const does = {
    ArrowLeft: () => (s ? move(-1, 0) : turn(-0.08, 0)), ArrowRight: () => (s ? move(1, 0) : turn(0.08, 0)),
    ArrowUp: () => (s ? move(0, 1) : turn(0, -0.06)), ArrowDown: () => (s ? move(0, -1) : turn(0, 0.06)),
    "+": () => nearer(0.85), "=": () => nearer(0.85), "-": () => nearer(1.18), Home: showAll, t: fromAbove, T: fromAbove,
    s: () => (cutting ? closeCut() : cut(true)), S: () => (cutting ? closeCut() : cut(true)), Escape: closeCut,
    e: () => exaggerate(exaggeration + 0.5), E: () => exaggerate(exaggeration - 0.5), d: () => paintTheme((dark = !dark)), D: () => paintTheme((dark = !dark)),
    Enter: () => { if (cutting) end(hit(0, 0)); },
  }[event.key];
  if (!does) return;
  event.preventDefault();
  byKeys = true;
  cross.visible = true;
  does();
  readAt(0, 0);
  draw();
});

resize();
stretch();
paintTheme(dark);
showAll();
