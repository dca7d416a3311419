import { BufferAttribute, BufferGeometry } from "three";

/** readMesh loads what the service made of a model: "TMSH", then little-endian version, vertices, triangles, whether z points upwards, and the numbers. */
export async function readMesh(address: string): Promise<BufferGeometry> {
  const answer = await fetch(address);
  if (!answer.ok) throw new Error("The service has no mesh of this version.");
  const data = await answer.arrayBuffer();
  const head = new DataView(data, 0, 20);
  const [version, vertices, triangles, zUp] = [4, 8, 12, 16].map((at) => head.getUint32(at, true)) as [number, number, number, number];
  if (version !== 1 || data.byteLength !== 20 + 12 * vertices + 12 * triangles) throw new Error("The mesh did not arrive whole.");
  const places = new Float32Array(data.slice(20, 20 + 12 * vertices));
  if (zUp) {
    for (let i = 0; i < places.length; i += 3) {
      const y = places[i + 1]!;
      places[i + 1] = places[i + 2]!;
      places[i + 2] = -y;
    }
  }
  const g = new BufferGeometry();
  g.userData.zUp = zUp === 1;
  g.setAttribute("position", new BufferAttribute(places, 3));
  g.setIndex(new BufferAttribute(new Uint32Array(data.slice(20 + 12 * vertices)), 1));
  g.computeVertexNormals();
  g.computeBoundingBox();
  return g;
}
