import { useEffect, useRef, useState } from "react";
import * as THREE from "three";
import { OrbitControls } from "three/examples/jsm/controls/OrbitControls.js";
import { Button } from "../../parts/Button";
import { tokens } from "../../parts/theme";
import { readMesh } from "./mesh";

const modes = ["Side by side", "Over each other", "What is different"] as const;
type Mode = (typeof modes)[number];

/** Models turns two models around with one camera, side by side or over each other. */
export default function Models({ before, after, difference }: { before: string; after?: string; difference?: string }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [mode, setMode] = useState<Mode>("Side by side");
  const [trouble, setTrouble] = useState("");
  const [home, setHome] = useState(0);
  useEffect(() => {
    const el = canvas.current;
    if (!el || mode === "What is different") return;
    let stopped = false;
    let clean = () => {};
    void Promise.all([before, after].filter((a) => a !== undefined).map(readMesh))
      .then((meshes) => {
        if (!stopped) clean = show(el, meshes, after ? mode : "Over each other");
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
          <span role="radiogroup" aria-label="How" className="inline-flex overflow-hidden rounded-md border border-line">
            {modes.filter((m) => m !== "What is different" || difference).map((m) => (
              <button key={m} type="button" role="radio" aria-checked={m === mode} onClick={() => setMode(m)} className={`px-2.5 py-1 ${m === mode ? "bg-stone font-semibold" : "text-peat hover:text-ink"}`}>{m}</button>
            ))}
          </span>
        )}
        {mode !== "What is different" && <Button kind="quiet" onClick={() => setHome((h) => h + 1)}>As at first</Button>}
        <span className="text-xs text-peat">{mode === "What is different" ? "Copper: came nearer, or is new. Ice stripes: went." : "Drag to turn, wheel to zoom, right button to move; arrow keys move, with shift they turn."}</span>
      </div>
      {trouble && <p role="alert" className="text-rust">{trouble}</p>}
      {mode === "What is different" && difference
        ? <img src={difference} alt="What is different" className="mx-auto max-h-[30rem] rounded-lg" />
        : <canvas ref={canvas} tabIndex={0} className="h-[30rem] w-full touch-none rounded-lg bg-stone" role="img" aria-label={after ? "Both models" : "The model"} />}
      {after && mode === "Side by side" && <p className="grid grid-cols-2 text-peat"><span>before</span><span>after</span></p>}
      {after && mode === "Over each other" && <p className="text-peat">Before as a net of lines, after as a solid.</p>}
    </section>
  );
}

/** show draws until it is told to stop. */
function show(el: HTMLCanvasElement, meshes: THREE.BufferGeometry[], mode: Mode): () => void {
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
  camera.position.copy(middle).add(new THREE.Vector3(0.5, 0.45, 0.8).normalize().multiplyScalar(reach * 2.2));
  const controls = new OrbitControls(camera, el);
  controls.target.copy(middle);
  controls.listenToKeyEvents(el);
  controls.update();
  const solid = () => new THREE.MeshStandardMaterial({ color: 0xd6cebe, roughness: 0.85, side: THREE.DoubleSide, flatShading: true });
  const net = () => new THREE.MeshBasicMaterial({ color: ink.ice, wireframe: true, transparent: true, opacity: 0.35 });
  const scenes = mode === "Side by side" ? meshes.map((g) => scene([[g, solid()]])) : [scene(meshes.map((g, i) => [g, i < meshes.length - 1 ? net() : solid()]))];
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
  };
  controls.addEventListener("change", draw);
  const sized = new ResizeObserver(draw);
  sized.observe(el);
  draw();
  return () => {
    sized.disconnect();
    controls.dispose();
    meshes.forEach((g) => g.dispose());
    renderer.dispose();
  };
}

function scene(parts: [THREE.BufferGeometry, THREE.Material][]): THREE.Scene {
  const s = new THREE.Scene();
  s.add(new THREE.HemisphereLight(0xffffff, 0x4a5459, 1.6));
  const sun = new THREE.DirectionalLight(0xfff2e0, 2.2);
  sun.position.set(-1, 2, 1.5);
  s.add(sun);
  for (const [g, m] of parts) s.add(new THREE.Mesh(g, m));
  return s;
}
