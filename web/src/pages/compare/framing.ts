/** A point or a direction in space. */
export type Three = readonly [number, number, number];

const dot = (a: Three, b: Three) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
const cross = (a: Three, b: Three): Three => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];
const unit = (a: Three): Three => {
  const l = Math.hypot(...a) || 1;
  return [a[0] / l, a[1] / l, a[2] / l];
};

/**
 * distanceFor is how far from the middle of a box, whose size is given, one has to stand in a direction (y being up) so that all of it is
 * seen. angle is that of the view from its lower to its upper edge in radians, aspect its width over its height; room is how much more there is
 * around, 1.08 for a twelfth.
 */
export function distanceFor(size: Three, direction: Three, angle: number, aspect: number, room = 1.08): number {
  const back = unit(direction);
  const right = unit(cross([0, 1, 0], back));
  const up = cross(back, right);
  const tall = Math.tan(angle / 2);
  let most = 0;
  for (let i = 0; i < 8; i++) {
    const corner: Three = [(i & 1 ? 0.5 : -0.5) * size[0], (i & 2 ? 0.5 : -0.5) * size[1], (i & 4 ? 0.5 : -0.5) * size[2]];
    const seen = Math.max(Math.abs(dot(corner, up)) / tall, Math.abs(dot(corner, right)) / (tall * aspect));
    most = Math.max(most, seen * room + dot(corner, back));
  }
  return most || 1;
}
