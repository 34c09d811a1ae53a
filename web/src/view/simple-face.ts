import * as THREE from 'three';

/** A plain face on a head that shows what a face stream says: lids, gaze, jaw, brows and mouth. */

const EYE: [number, number, number] = [0.031, 0.088, 0.088];
const BROW: [number, number, number] = [0.031, 0.113, 0.096];
const MOUTH: [number, number, number] = [0, 0.036, 0.097];
const GAZE = 0.55; // how far a whole look turns the eye, radians

type Shape = (name: string) => number;

/** Where its parts are by the shapes of a face, each 0 to 1: plain numbers, so that they can be tested without drawing. */
export function expression(shape: Shape) {
  const eye = (side: 'Left' | 'Right') => {
    const out = side === 'Left' ? 1 : -1; // the performer's left lies at +x
    return {
      closed: Math.min(1, Math.max(0, shape(`eyeBlink${side}`) - 0.35 * shape(`eyeWide${side}`))),
      aside: GAZE * out * (shape(`eyeLookOut${side}`) - shape(`eyeLookIn${side}`)),
      up: GAZE * (shape(`eyeLookUp${side}`) - shape(`eyeLookDown${side}`)),
      brow: 0.012 * (0.5 * shape('browInnerUp') + 0.7 * shape(`browOuterUp${side}`) - 0.8 * shape(`browDown${side}`)),
    };
  };
  const smile = 0.5 * (shape('mouthSmileLeft') + shape('mouthSmileRight'));
  const round = Math.max(shape('mouthPucker'), shape('mouthFunnel'));
  return {
    left: eye('Left'), right: eye('Right'),
    open: shape('jawOpen'),
    width: Math.max(0.35, 1 + 0.35 * smile - 0.5 * round + 0.2 * 0.5 * (shape('mouthStretchLeft') + shape('mouthStretchRight'))),
    lift: 0.006 * (smile - 0.5 * (shape('mouthFrownLeft') + shape('mouthFrownRight'))),
  };
}

const BALL = new THREE.SphereGeometry(1, 14, 10);
const LID = new THREE.SphereGeometry(1, 14, 8, 0, 2 * Math.PI, 0, Math.PI / 2);
const BAR = new THREE.CapsuleGeometry(1, 4, 3, 8);

type Eye = { ball: THREE.Group; lid: THREE.Mesh; brow: THREE.Mesh };

export class SimpleFace {
  readonly object = new THREE.Group();
  private readonly left: Eye;
  private readonly right: Eye;
  private readonly mouth: THREE.Mesh;
  private readonly materials: THREE.Material[] = [];

  constructor(colours: { skin: string; dark: string; light: string }) {
    const paint = (colour: string) => {
      const made = new THREE.MeshLambertMaterial({ color: colour });
      this.materials.push(made);
      return made;
    };
    const [skin, dark, light] = [paint(colours.skin), paint(colours.dark), paint(colours.light)];
    const eye = (sign: number): Eye => {
      const ball = new THREE.Group();
      ball.position.set(sign * EYE[0], EYE[1], EYE[2]);
      const white = new THREE.Mesh(BALL, light);
      white.scale.setScalar(0.0125);
      const pupil = new THREE.Mesh(BALL, dark);
      pupil.scale.set(0.0058, 0.0058, 0.003);
      pupil.position.z = 0.0112;
      ball.add(white, pupil);
      const lid = new THREE.Mesh(LID, skin);
      lid.scale.setScalar(0.0138);
      lid.position.copy(ball.position);
      const brow = new THREE.Mesh(BAR, dark);
      brow.scale.set(0.0022, 0.0055, 0.0022);
      brow.rotation.z = Math.PI / 2;
      brow.position.set(sign * BROW[0], BROW[1], BROW[2]);
      this.object.add(ball, lid, brow);
      return { ball, lid, brow };
    };
    this.left = eye(1);
    this.right = eye(-1);
    this.mouth = new THREE.Mesh(BALL, dark);
    this.mouth.position.set(...MOUTH);
    this.object.add(this.mouth);
    this.object.traverse((o) => {
      o.raycast = () => null;
    });
    this.show(() => 0);
  }

  show(shape: Shape) {
    const now = expression(shape);
    for (const [eye, said] of [[this.left, now.left], [this.right, now.right]] as const) {
      eye.ball.rotation.set(-said.up, said.aside, 0);
      eye.lid.rotation.x = -0.55 + said.closed * 1.75; // from above the eye down over it
      eye.brow.position.y = BROW[1] + said.brow;
    }
    this.mouth.scale.set(0.021 * now.width, 0.0022 + 0.017 * now.open, 0.006);
    this.mouth.position.y = MOUTH[1] - 0.012 * now.open + now.lift;
  }

  dispose() {
    for (const material of this.materials) material.dispose();
  }
}
