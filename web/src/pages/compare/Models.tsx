import { useEffect, useRef, useState } from "react";
import * as THREE from "three";
import { OrbitControls } from "three/examples/jsm/controls/OrbitControls.js";
import { Button } from "../../parts/Button";
import { Choice } from "../../parts/Choice";
import { Diamond, MarkButton, spotPoint, usePoints } from "../../parts/Pointing";
import { tokens } from "../../parts/theme";
import { distanceFor } from "./framing";
import { readMesh } from "./mesh";

const modes = ["Side by side", "Over each other", "What is different"] as const;
type Mode = (typeof modes)[number];

/** Models turns two models around with one camera, side by side or over each other. */
export default function Models({ before, after, difference }: { before: string; after?: string; difference?: string }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [mode, setMode] = useState<Mode>("Side by side");
  const [trouble, setTrouble] = useState("");
  const [home, setHome] = useState(0);
  const points = usePoints();
  const latest = useRef(points);
  latest.current = points;
  const overlay = useRef<HTMLDivElement>(null);
  const redraw = useRef(() => {});
  // biome-ignore lint/correctness/useExhaustiveDependencies: marks are drawn by what is looked up in points
  useEffect(() => redraw.current(), [points.marks, points.spot]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: home begins anew
  useEffect(() => {
    const el = canvas.current;
    if (!el || mode === "What is different") return;
    let stopped = false;
    let clean = () => {};
    void Promise.all([before, after].filter((a) => a !== undefined).map(readMesh))
      .then((meshes) => {
        if (stopped) return;
        const shown = show(el, meshes, after ? mode : "Over each other", overlay.current!, (at) => latest.current.point?.(at));
        redraw.current = shown.draw;
        clean = () => {
          redraw.current = () => {};
          shown.stop();
        };
      })
      .catch((e: unknown) => setTrouble(e instanceof Error ? e.message : "the models could not be loaded"));
    return () => {
      stopped = true;
      clean();
    };
  }, [before, after, mode, home]);
  return (
    <section aria-label="Models">
      <div className="mb-3 flex flex-wrap items-center gap-4">
        {after && (
          <Choice label="How" options={modes.filter((m) => m !== "What is different" || difference)} value={mode} onChange={setMode} />
        )}
        {mode !== "What is different" && (
          <Button kind="quiet" onClick={() => setHome((h) => h + 1)}>
            As at first
          </Button>
        )}
        <span className="text-xs text-peat">
          {mode === "What is different"
            ? "Copper: came nearer, or is new. Ice stripes: went."
            : "Drag to turn, wheel to zoom, right button to move; arrow keys move, with shift they turn."}
          {points.point && mode !== "What is different" && " Click, or Enter for the middle, to point at something."}
        </span>
      </div>
      {trouble && (
        <p role="alert" className="text-rust">
          {trouble}
        </p>
      )}
      {mode === "What is different" && difference ? (
        <img src={difference} alt="What is different" className="mx-auto max-h-[30rem] rounded-lg" />
      ) : (
        <div className="relative overflow-hidden rounded-lg">
          <canvas
            ref={canvas}
            tabIndex={0}
            className={`h-[30rem] w-full touch-none bg-stone ${points.point ? "cursor-crosshair" : ""}`}
            role="img"
            aria-label={after ? "Both models" : "The model"}
          />
          <div ref={overlay} className="pointer-events-none absolute inset-0">
            {points.marks
              .filter((m) => spotPoint(m.where))
              .map((m) => (
                <span key={m.number} data-at={m.where} className="pointer-events-auto absolute -translate-1/2">
                  <MarkButton mark={m} points={points} />
                </span>
              ))}
            {spotPoint(points.spot ?? "") && (
              <span data-at={points.spot} className="absolute -translate-1/2">
                <Diamond number="+" chosen />
              </span>
            )}
          </div>
        </div>
      )}
      {after && mode === "Side by side" && (
        <p className="grid grid-cols-2 text-peat">
          <span>before</span>
          <span>after</span>
        </p>
      )}
      {after && mode === "Over each other" && <p className="text-peat">Before as a net of lines, after as a solid.</p>}
    </section>
  );
}

/** From where one looks at first. */
export const from = [0.5, 0.45, 0.8] as const;

/** The page has y upwards; a file may have z. */
const upright = ([x, y, z]: readonly [number, number, number], zUp: boolean) =>
  zUp ? new THREE.Vector3(x, z, -y) : new THREE.Vector3(x, y, z);
const asInFile = (p: THREE.Vector3, zUp: boolean) => (zUp ? [p.x, -p.z, p.y] : [p.x, p.y, p.z]);

/** show draws until it is told to stop. What lies in overlay with a point (data-at) of the last mesh stands where that is; a click on the mesh points. */
function show(
  el: HTMLCanvasElement,
  meshes: THREE.BufferGeometry[],
  mode: Mode,
  overlay: HTMLElement,
  point: (at: string) => void,
): { draw: () => void; stop: () => void } {
  const ink = tokens();
  const renderer = new THREE.WebGLRenderer({ canvas: el, antialias: true, alpha: true, preserveDrawingBuffer: true });
  renderer.setPixelRatio(Math.min(devicePixelRatio, 2));
  const camera = new THREE.PerspectiveCamera(40, 1, 0.01, 1000);
  const whole = new THREE.Box3();
  for (const g of meshes) whole.union(g.boundingBox!);
  const middle = whole.getCenter(new THREE.Vector3());
  const reach = whole.getSize(new THREE.Vector3()).length() / 2 || 1;
  camera.near = reach / 100;
  camera.far = reach * 30;
  // All of it is seen, however tall or wide it is, also in half the width.
  const aspect = el.clientWidth / (mode === "Side by side" ? meshes.length : 1) / (el.clientHeight || 1) || 1;
  const far = distanceFor(whole.getSize(new THREE.Vector3()).toArray(), from, (camera.fov * Math.PI) / 180, aspect);
  camera.position.copy(middle).add(new THREE.Vector3(...from).normalize().multiplyScalar(far));
  const controls = new OrbitControls(camera, el);
  controls.target.copy(middle);
  controls.listenToKeyEvents(el);
  controls.update();
  const net = () => new THREE.MeshBasicMaterial({ color: ink.ice, wireframe: true, transparent: true, opacity: 0.35 });
  const scenes =
    mode === "Side by side"
      ? meshes.map((g) => scene([[g, solid()]]))
      : [scene(meshes.map((g, i) => [g, i < meshes.length - 1 ? net() : solid()]))];
  const draw = () => {
    const { clientWidth: w, clientHeight: h } = el;
    renderer.setSize(w, h, false);
    renderer.setScissorTest(true);
    const each = w / scenes.length;
    scenes.forEach((s, i) => {
      renderer.setViewport(i * each, 0, each, h);
      renderer.setScissor(i * each, 0, each, h);
      camera.aspect = each / h;
      camera.updateProjectionMatrix();
      renderer.render(s, camera);
    });
    const left = (scenes.length - 1) * each;
    for (const mark of overlay.querySelectorAll<HTMLElement>("[data-at]")) {
      const at = upright(spotPoint(mark.dataset.at!)!, zUp).project(camera);
      const seen = Math.abs(at.x) <= 1 && Math.abs(at.y) <= 1 && at.z < 1;
      mark.style.display = seen ? "" : "none";
      mark.style.left = `${left + ((at.x + 1) / 2) * each}px`;
      mark.style.top = `${((1 - at.y) / 2) * h}px`;
    }
  };
  const last = meshes[meshes.length - 1]!;
  const zUp = last.userData.zUp === true;
  const digits = Math.min(6, Math.max(0, 3 - Math.floor(Math.log10(reach))));
  /** pointAt points at what lies under a place of the canvas, in pixels. */
  const pointAt = (x: number, y: number) => {
    const { clientWidth: w, clientHeight: h } = el;
    const each = w / scenes.length;
    const ray = new THREE.Raycaster();
    ray.setFromCamera(new THREE.Vector2(((x - (scenes.length - 1) * each) / each) * 2 - 1, 1 - (y / h) * 2), camera);
    const hit = ray.intersectObject(new THREE.Mesh(last, new THREE.MeshBasicMaterial({ side: THREE.DoubleSide })))[0];
    if (hit)
      point(
        asInFile(hit.point, zUp)
          .map((v) => Number(v.toFixed(digits)) + 0)
          .join(","),
      );
  };
  let down = { x: 0, y: 0 };
  const pressed = (e: PointerEvent) => (down = { x: e.offsetX, y: e.offsetY });
  const clicked = (e: PointerEvent) =>
    e.button === 0 && Math.hypot(e.offsetX - down.x, e.offsetY - down.y) < 4 && pointAt(e.offsetX, e.offsetY);
  const key = (e: KeyboardEvent) => e.key === "Enter" && pointAt(el.clientWidth * (1 - 0.5 / scenes.length), el.clientHeight / 2);
  el.addEventListener("pointerdown", pressed);
  el.addEventListener("pointerup", clicked);
  el.addEventListener("keydown", key);
  controls.addEventListener("change", draw);
  const sized = new ResizeObserver(draw);
  sized.observe(el);
  draw();
  const stop = () => {
    el.removeEventListener("pointerdown", pressed);
    el.removeEventListener("pointerup", clicked);
    el.removeEventListener("keydown", key);
    sized.disconnect();
    controls.dispose();
    meshes.forEach((g) => g.dispose());
    renderer.dispose();
  };
  return { draw, stop };
}

export const solid = () => new THREE.MeshStandardMaterial({ color: 0xd6cebe, roughness: 0.85, side: THREE.DoubleSide, flatShading: true });

export function scene(parts: [THREE.BufferGeometry, THREE.Material][]): THREE.Scene {
  const s = new THREE.Scene();
  s.add(new THREE.HemisphereLight(0xffffff, 0x4a5459, 1.6));
  const sun = new THREE.DirectionalLight(0xfff2e0, 2.2);
  sun.position.set(-1, 2, 1.5);
  s.add(sun);
  for (const [g, m] of parts) s.add(new THREE.Mesh(g, m));
  return s;
}
