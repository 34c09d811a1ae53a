"""What bone names say, in many habits and languages; and what they must not say."""

import unittest

from otrevo.core.bone_names import read_names, worn_on

MEANT = {
    # name: (a concept it names, side)
    "hero:LeftForeArm": ("lowerarm", "left"),
    "upperarm_l": ("upperarm", "left"),
    "bip_R_Thigh": ("upperleg", "right"),
    "Oberschenkel_L": ("upperleg", "left"),
    "Unterarm.links": ("lowerarm", "left"),
    "leftlowerleg": ("lowerleg", "left"),
    "rForearm": ("lowerarm", "right"),
    "lThigh": ("upperleg", "left"),
    "RIGHT_FOOT": ("foot", "right"),
    "avantbras_gauche": ("lowerarm", "left"),
    "cuisse_droite": ("upperleg", "right"),
    "muslo_izq": ("upperleg", "left"),
    "polpaccio_dx": ("lowerleg", "right"),
    "canela_esq": ("lowerleg", "left"),
    "左足首": ("foot", "left"),
    "右ひじ": ("lowerarm", "right"),
    "左上腕": ("upperarm", "left"),
    "правая голень": ("lowerleg", "right"),
    "왼쪽 무릎": ("lowerleg", "left"),
    "L_Clavicle": ("clavicle", "left"),
    "shouldr_r": ("shoulder", "right"),
    "Spine2": ("spine", ""),
    "pelvis": ("hips", ""),
    "LeftHandThumb1": ("thumb", "left"),
    "pinky_02_r": ("little", "right"),
    "Mittelfinger1_L": ("middle", "left"),
    "ctrl_foot_ik.R": ("ik", "right"),
    "clavicle_twist_l": ("twist", "left"),
    "rightHandRing2_end": ("end", "right"),
    "skirt_front_1": ("cloth", ""),
    "ponytail3": ("hair", ""),
    "lantern_socket": ("weapon", ""),
}


class Names(unittest.TestCase):
    def test_what_is_meant(self):
        for name, (concept, side) in MEANT.items():
            with self.subTest(name):
                (said,) = read_names([name])
                self.assertIn(concept, said.concepts)
                self.assertEqual(said.side, side)

    def test_names_without_meaning_say_nothing(self):
        for name in ("qwzxvk", "joint_014", "bone.003", "000", "", "----", "x" * 10_000):
            (said,) = read_names([name])
            self.assertEqual(said.concepts, frozenset(), name)

    def test_a_prefix_that_all_share_says_nothing(self):
        names = [
            f"hand_puppet_{part}"
            for part in ("hips", "spine", "head", "thigh_l", "thigh_r", "shin_l", "shin_r", "foot_l")
        ]
        said = read_names(names)
        self.assertFalse(any(s.names("hand") for s in said))
        self.assertTrue(said[0].names("hips"))

    def test_the_thigh_is_no_hip_of_its_side_alone(self):
        (hip,) = read_names(["hip_l"])
        self.assertTrue({"hips", "upperleg"} <= hip.concepts, "geometry decides between the two")

    def test_fingers_are_no_hands_or_arms(self):
        (ring,) = read_names(["LeftHandRing1"])
        self.assertEqual(ring.concepts & {"hand", "arm"}, frozenset())

    def test_what_is_worn_is_told_by_what_is_worn_beside_it(self):
        cases = (
            ("LeftShoulder LeftArm LeftForeArm", "leftShoulder leftUpperArm leftLowerArm"),
            ("LeftUpperArm LeftArm", "leftUpperArm leftLowerArm"),
            ("LeftShoulder LeftForeArm", "leftUpperArm leftLowerArm"),
            ("RightUpLeg RightLeg RightFoot", "rightUpperLeg rightLowerLeg rightFoot"),
            ("shank.R leg.R", "rightLowerLeg rightUpperLeg"),
            ("Hip Waistband_Sensor", "hips ."),
            ("Spine Brustkorb Kopf", ". chest head"),
            ("Spine Kopf", "chest head"),
            ("thigh sword_left 104", ". . ."),
        )
        for names, bones in cases:
            with self.subTest(names):
                found = worn_on(names.split())
                self.assertEqual([found.get(n, ".") for n in names.split()], bones.split())
