// The page that shows a mesh: turned by hand or by itself, painted in several ways, measured by two clicks.
// What it shows lies in the page itself: #mesh (a .glb as base64) and #about (JSON).
import * as THREE from 'three';
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js';
import { GLTFLoader } from 'three/examples/jsm/loaders/GLTFLoader.js';

// The tones of src/draw/palette.h.
const FIRN = 0xecf0f2, CLAY = 0xbcc4ca, CREVASSE = 0x13456b, RUST = 0xb04514;
const STOPS = [[28, 26, 72], [32, 78, 132], [38, 132, 150], [98, 176, 138], [184, 206, 104], [252, 206, 84]];

const about = JSON.parse(document.getElementById('about').textContent);
const view = document.getElementById('view');
const say = (text) => { document.getElementById('said').textContent = text; };
// What is shown now, for who looks into the page: in the attributes of its body.
const note = (name, value) => { document.body.dataset[name] = value; };
let faces = 0;

function scaleColour(t) {
  const at = Math.min(1, Math.max(0, t)) * (STOPS.length - 1), i = Math.min(STOPS.length - 2, Math.floor(at));
  return STOPS[i].map((low, c) => (low + (at - i) * (STOPS[i + 1][c] - low)) / 255);
}

function bytesOf(base64) {
  const text = atob(base64), bytes = new Uint8Array(text.length);
  for (let i = 0; i < text.length; ++i) bytes[i] = text.charCodeAt(i);
  return bytes.buffer;
}

// A number by vertex as colours, between the 2nd and the 98th percent.
function coloursOf(numbers) {
  const sorted = Float32Array.from(numbers).sort();
  const low = sorted[Math.floor(0.02 * (sorted.length - 1))], high = sorted[Math.floor(0.98 * (sorted.length - 1))];
  const colours = new Float32Array(3 * numbers.length);
  for (let v = 0; v < numbers.length; ++v) {
    const colour = new THREE.Color(...scaleColour((numbers[v] - low) / Math.max(1e-30, high - low)));
    colour.convertSRGBToLinear();
    colours.set([colour.r, colour.g, colour.b], 3 * v);
  }
  return { colours: new THREE.BufferAttribute(colours, 3), low, high };
}

class MeshPage {
  constructor() {
    this.renderer = new THREE.WebGLRenderer({ antialias: true, preserveDrawingBuffer: true });
    this.renderer.setPixelRatio(Math.min(2, window.devicePixelRatio));
    view.appendChild(this.renderer.domElement);
    this.renderer.domElement.tabIndex = 0;
    this.renderer.domElement.setAttribute('aria-label', 'The mesh; arrow keys turn it, plus and minus come nearer and go away');
    this.scene = new THREE.Scene();
    this.scene.background = new THREE.Color(FIRN);
    this.camera = new THREE.PerspectiveCamera(40, 1, 0.01, 1000);
    this.scene.add(new THREE.HemisphereLight(0xffffff, 0x8a8478, 1.2));
    this.lamp = new THREE.DirectionalLight(0xffffff, 1.5);
    this.camera.add(this.lamp, this.lamp.target);
    this.lamp.position.set(-0.6, 0.9, 0.4);
    this.lamp.target.position.set(0, 0, -1);
    this.scene.add(this.camera);
    this.controls = new OrbitControls(this.camera, this.renderer.domElement);
    this.controls.enableDamping = false;
    this.controls.autoRotateSpeed = 1.5;
    this.controls.addEventListener('change', () => this.draw());
    this.parts = [];
    this.marks = [];
  }

  start(gltf) {
    const box = new THREE.Box3().setFromObject(gltf.scene);
    this.size = Math.max(1e-9, box.getSize(new THREE.Vector3()).length());
    gltf.scene.traverse((part) => {
      if (!part.isMesh) return;
      this.parts.push({ mesh: part, own: part.material });
      faces += (part.geometry.index ? part.geometry.index.count : part.geometry.attributes.position.count) / 3;
      if (!part.geometry.attributes.normal) part.geometry.computeVertexNormals();
    });
    this.scene.add(gltf.scene);
    this.ways = this.waysThere();
    this.makeButtons();
    this.resize();
    this.home();
    window.addEventListener('resize', () => this.resize());
    this.listen();
    // The address may say how it is painted first: page.html#wire.
    const asked = window.location.hash.slice(1);
    this.paint(this.ways.some((way) => way.name === asked) ? asked : this.ways[0].name);
    note('faces', faces);
    note('ready', 'yes');
  }

  waysThere() {
    const has = (attribute) => this.parts.length > 0 && this.parts.every((p) => p.mesh.geometry.attributes[attribute]);
    const ways = [];
    if (this.parts.some((p) => p.own.map)) ways.push({ name: 'texture', label: 'Texture' });
    else if (has('color')) ways.push({ name: 'colour', label: 'Colour' });
    ways.push({ name: 'shape', label: 'Shape' }, { name: 'wire', label: 'Wire' });
    if (has('_support')) ways.push({ name: 'support', label: 'Support' });
    if (has('_error')) ways.push({ name: 'error', label: 'Expected error' });
    return ways;
  }

  makeButtons() {
    const bar = document.getElementById('ways');
    this.ways.forEach((way, i) => {
      const button = document.createElement('button');
      button.textContent = way.label;
      button.title = `Key ${i + 1}`;
      button.dataset.way = way.name;
      button.addEventListener('click', () => this.paint(way.name));
      bar.appendChild(button);
    });
    document.getElementById('turn').addEventListener('click', () => this.turn(!this.controls.autoRotate));
    document.getElementById('home').addEventListener('click', () => this.home());
  }

  paint(name) {
    note('way', name);
    for (const button of document.querySelectorAll('#ways button'))
      button.setAttribute('aria-pressed', String(button.dataset.way === name));
    let scale = '';
    for (const part of this.parts) {
      const geometry = part.mesh.geometry;
      if (part.lines) part.lines.visible = name === 'wire';
      if (name === 'texture' || name === 'colour') {
        part.mesh.material = part.own;
        if (part.plain) geometry.setAttribute('color', part.plain);
      } else if (name === 'support' || name === 'error') {
        part.scaled = part.scaled || {};
        if (!part.scaled[name]) part.scaled[name] = coloursOf(geometry.attributes['_' + name].array);
        if (!part.plain && geometry.attributes.color) part.plain = geometry.attributes.color;
        geometry.setAttribute('color', part.scaled[name].colours);
        part.mesh.material = new THREE.MeshLambertMaterial({ vertexColors: true, side: THREE.DoubleSide });
        const units = name === 'error' ? ' ' + about.units : '';
        scale = `dark ${part.scaled[name].low.toPrecision(3)}${units}, light ${part.scaled[name].high.toPrecision(3)}${units}`;
      } else {
        part.mesh.material = new THREE.MeshStandardMaterial({ color: CLAY, roughness: 0.95, side: THREE.DoubleSide,
          polygonOffset: true, polygonOffsetFactor: 1, polygonOffsetUnits: 1 });
        if (name === 'wire' && !part.lines) {
          part.lines = new THREE.LineSegments(new THREE.WireframeGeometry(geometry),
            new THREE.LineBasicMaterial({ color: CREVASSE, transparent: true, opacity: 0.55 }));
          part.mesh.add(part.lines);
        }
      }
      part.mesh.material.needsUpdate = true;
    }
    say(scale);
    this.draw();
  }

  // So near and so placed that all of the mesh is just in the picture.
  home() {
    const way = new THREE.Vector3(0.55, 0.42, 0.72).normalize();
    const right = new THREE.Vector3(0, 1, 0).cross(way).normalize(), up = way.clone().cross(right);
    const axes = [right, up, way], low = [1e30, 1e30, 1e30], high = [-1e30, -1e30, -1e30], places = this.samples();
    for (const place of places)
      axes.forEach((axis, k) => {
        const at = place.dot(axis);
        low[k] = Math.min(low[k], at), high[k] = Math.max(high[k], at);
      });
    const target = new THREE.Vector3();
    axes.forEach((axis, k) => target.addScaledVector(axis, (low[k] + high[k]) / 2));
    const tall = Math.tan(this.camera.fov * Math.PI / 360), wide = tall * this.camera.aspect;
    let distance = 0;
    for (const place of places) {
      const p = place.clone().sub(target);
      distance = Math.max(distance, p.dot(way) + Math.max(Math.abs(p.dot(up)) / tall, Math.abs(p.dot(right)) / wide));
    }
    this.controls.target.copy(target);
    this.camera.position.copy(target).addScaledVector(way, 1.05 * distance);
    this.camera.near = this.size / 1000, this.camera.far = 20 * this.size;
    this.camera.updateProjectionMatrix();
    this.controls.update();
    this.draw();
  }
  // Some of the vertices, all over.
  samples() {
    const places = [];
    for (const part of this.parts) {
      const position = part.mesh.geometry.attributes.position, step = Math.max(1, Math.floor(position.count / 8000));
      for (let v = 0; v < position.count; v += step)
        places.push(new THREE.Vector3().fromBufferAttribute(position, v).applyMatrix4(part.mesh.matrixWorld));
    }
    return places;
  }

  turn(on) {
    this.controls.autoRotate = on;
    note('turning', on ? 'yes' : 'no');
    document.getElementById('turn').setAttribute('aria-pressed', String(on));
    if (on) this.step();
  }
  step() {
    if (!this.controls.autoRotate) return;
    this.controls.update();
    this.draw();
    requestAnimationFrame(() => this.step());
  }

  listen() {
    window.addEventListener('keydown', (event) => {
      if (event.ctrlKey || event.metaKey || event.altKey) return;
      const number = Number(event.key);
      if (number >= 1 && number <= this.ways.length) this.paint(this.ways[number - 1].name);
      else if (event.key === 't') this.turn(!this.controls.autoRotate);
      else if (event.key === 'h') this.home();
      else if (event.key === '+' || event.key === '=') this.nearer(0.85);
      else if (event.key === '-') this.nearer(1 / 0.85);
      else if (event.key.startsWith('Arrow')) this.arrow(event.key);
      else return;
      event.preventDefault();
    });
    // A click measures, a drag turns.
    let from = null;
    const canvas = this.renderer.domElement;
    canvas.addEventListener('pointerdown', (event) => { from = [event.clientX, event.clientY]; });
    canvas.addEventListener('pointerup', (event) => {
      if (from && Math.hypot(event.clientX - from[0], event.clientY - from[1]) < 4) this.click(event);
      from = null;
    });
  }
  nearer(share) {
    this.camera.position.sub(this.controls.target).multiplyScalar(share).add(this.controls.target);
    this.controls.update();
    this.draw();
  }
  arrow(key) {
    const way = this.camera.position.clone().sub(this.controls.target), ball = new THREE.Spherical().setFromVector3(way);
    if (key === 'ArrowLeft') ball.theta -= 0.1;
    if (key === 'ArrowRight') ball.theta += 0.1;
    if (key === 'ArrowUp') ball.phi -= 0.1;
    if (key === 'ArrowDown') ball.phi += 0.1;
    ball.makeSafe();
    this.camera.position.setFromSpherical(ball).add(this.controls.target);
    this.controls.update();
    this.draw();
  }

  click(event) {
    const frame = this.renderer.domElement.getBoundingClientRect();
    const at = new THREE.Vector2(2 * (event.clientX - frame.left) / frame.width - 1,
      1 - 2 * (event.clientY - frame.top) / frame.height);
    const ray = new THREE.Raycaster();
    ray.setFromCamera(at, this.camera);
    const hit = ray.intersectObjects(this.parts.map((p) => p.mesh), false)[0];
    if (this.marks.length === 2 || !hit) this.clearMarks();
    if (hit) this.mark(hit.point);
    this.draw();
  }
  clearMarks() {
    for (const mark of this.marks) this.scene.remove(mark);
    if (this.line) this.scene.remove(this.line);
    this.marks = [], this.line = null;
    note('measured', '');
    say('');
  }
  mark(point) {
    const ball = new THREE.Mesh(new THREE.SphereGeometry(0.006 * this.size, 16, 12),
      new THREE.MeshBasicMaterial({ color: RUST, depthTest: false }));
    ball.position.copy(point);
    ball.renderOrder = 2;
    this.scene.add(ball);
    this.marks.push(ball);
    // y is up in the file: x, z and height as the survey has them.
    const [x, y, z] = [point.x + about.origin[0], -point.z + about.origin[1], point.y + about.origin[2]];
    if (this.marks.length === 1) {
      say(`${x.toFixed(3)}, ${y.toFixed(3)}, height ${z.toFixed(3)} ${about.units}; click a second place for the distance`);
      return;
    }
    const [a, b] = this.marks.map((m) => m.position);
    this.line = new THREE.Line(new THREE.BufferGeometry().setFromPoints([a, b]),
      new THREE.LineBasicMaterial({ color: RUST, depthTest: false }));
    this.line.renderOrder = 2;
    this.scene.add(this.line);
    const distance = a.distanceTo(b), height = b.y - a.y;
    note('measured', distance);
    say(`distance ${distance.toPrecision(5)} ${about.units}, ` +
      `height ${height >= 0 ? '+' : ''}${height.toPrecision(4)} ${about.units}`);
  }

  resize() {
    const width = view.clientWidth, height = view.clientHeight;
    this.renderer.setSize(width, height);
    this.camera.aspect = width / Math.max(1, height);
    this.camera.updateProjectionMatrix();
    this.draw();
  }
  draw() { this.renderer.render(this.scene, this.camera); }
}

function run() {
  let page;
  try {
    page = new MeshPage();
  } catch (fault) {
    say('This browser draws no 3D (WebGL): a picture is shown instead.');
    note('fault', String(fault));
    return;
  }
  const still = document.getElementById('still');
  new GLTFLoader().parse(bytesOf(document.getElementById('mesh').textContent), '', (gltf) => {
    if (still) still.remove();
    document.body.classList.add('drawn');
    page.start(gltf);
  }, (fault) => {
    say('The mesh in this page cannot be read: ' + fault);
    note('fault', String(fault));
  });
}
run();
