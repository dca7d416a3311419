import { useEffect, useRef } from "react";
import * as THREE from "three";
import { distanceFor } from "./framing";
import { readMesh } from "./mesh";
import { from, scene, solid } from "./Models";

/** Turning is a model, small, that turns as the pointer goes over it from side to side. */
export default function Turning({ mesh, className = "" }: { mesh: string; className?: string }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const el = canvas.current!;
    let stopped = false;
    let clean = () => {};
    readMesh(mesh)
      .then((g) => {
        if (stopped) return g.dispose();
        clean = turn(el, g);
      })
      .catch(() => {}); // its picture stays
    return () => {
      stopped = true;
      clean();
    };
  }, [mesh]);
  return <canvas ref={canvas} className={`opacity-0 ${className}`} aria-hidden />;
}

function turn(el: HTMLCanvasElement, g: THREE.BufferGeometry): () => void {
  const renderer = new THREE.WebGLRenderer({ canvas: el, antialias: true });
  renderer.setClearColor(getComputedStyle(document.documentElement).getPropertyValue("--stone").trim(), 1);
  renderer.setPixelRatio(Math.min(devicePixelRatio, 2));
  const camera = new THREE.PerspectiveCamera(40, el.clientWidth / el.clientHeight, 0.01, 1000);
  const box = g.boundingBox!;
  const size = box.getSize(new THREE.Vector3());
  const reach = size.length() / 2 || 1;
  [camera.near, camera.far] = [reach / 100, reach * 30];
  const middle = box.getCenter(new THREE.Vector3());
  // Turned, what is long may be wide: as far away as its longest side wants.
  const wide = Math.hypot(size.x, size.z);
  const far = distanceFor([wide, size.y, wide], from, (camera.fov * Math.PI) / 180, camera.aspect);
  const view = new THREE.Vector3(...from).normalize().multiplyScalar(far);
  const drawn = scene([[g, solid()]]);
  const draw = (angle: number) => {
    renderer.setSize(el.clientWidth, el.clientHeight, false);
    camera.position.copy(middle).add(view.clone().applyAxisAngle(new THREE.Vector3(0, 1, 0), angle));
    camera.lookAt(middle);
    renderer.render(drawn, camera);
  };
  const place = el.parentElement ?? el;
  const move = (e: PointerEvent) => draw((0.5 - (e.clientX - place.getBoundingClientRect().left) / place.clientWidth) * 2 * Math.PI);
  place.addEventListener("pointermove", move);
  draw(0);
  el.style.opacity = "1";
  return () => {
    place.removeEventListener("pointermove", move);
    g.dispose();
    renderer.dispose();
    renderer.forceContextLoss();
  };
}
