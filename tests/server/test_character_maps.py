"""The map of a character in Cast: bones, chains, rest pose, effectors and face, changed, compared, mirrored and taken over."""

import json

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile

from otrevo.core.conventions import quaternion_multiply
from otrevo.server.cast.models import Character
from tests.server.characters import WithCharacters, pair, put


class Maps(WithCharacters):
    def test_a_map_is_changed_as_a_new_version(self):
        out = self.added()
        path = f"/api/characters/{out['id']}/map"
        changed = put(self.client, path, {"bone": "neck", "target": []}).json()
        self.assertEqual(changed["map"]["version"], 2)
        self.assertIn("neck", changed["map"]["missing"])
        self.assertIn("hero_rig_Neck_1", changed["map"]["unmapped"])
        wrong = put(self.client, path, {"bone": "neck", "target": ["hero_rig_Head"]})
        self.assertEqual(wrong.status_code, 422)
        self.assertIn("hero_rig_Head", wrong.json()["detail"])
        self.assertEqual(Character.objects.get().maps.count(), 2)

    def test_the_second_of_two_who_change_the_same_is_told(self):
        out = self.added()
        path = f"/api/characters/{out['id']}"
        head, neck = pair(out, "head")["target"], pair(out, "neck")["target"]
        self.assertEqual(
            put(self.client, f"{path}/map", {"bone": "neck", "target": [], "based_on": 1}).status_code, 200
        )
        late = put(self.client, f"{path}/map", {"bone": "neck", "target": neck, "based_on": 1})
        self.assertEqual((late.status_code, late.json()["version"]), (409, 2))
        self.assertIn("changed this part of", late.json()["detail"])
        # another bone, or the same after a look, goes through
        self.assertEqual(
            put(self.client, f"{path}/map", {"bone": "head", "target": head, "based_on": 1}).status_code, 200
        )
        self.assertEqual(
            put(self.client, f"{path}/map", {"bone": "neck", "target": neck, "based_on": 3}).status_code, 200
        )
        rows = [{"effector": "leftHand", "target": "grip"}]
        self.assertEqual(put(self.client, f"{path}/effectors", {"effectors": rows, "based_on": 1}).status_code, 200)
        self.assertEqual(put(self.client, f"{path}/effectors", {"effectors": [], "based_on": 1}).status_code, 409)

    def test_a_map_goes_out_and_comes_in_and_an_earlier_version_comes_back(self):
        out = self.added("gull.glb")
        path = f"/api/characters/{out['id']}"
        document = self.client.get(f"{path}/map-document").json()
        self.assertEqual(document["otrevo"], "map/1")
        put(self.client, f"{path}/map", {"bone": "neck", "target": []})

        def bring(data, name="map.json"):
            return self.client.post(f"{path}/map-document", {"file": SimpleUploadedFile(name, data)})

        back = bring(json.dumps(document).encode()).json()
        self.assertEqual((back["map"]["version"], pair(back, "neck")["target"]), (3, pair(out, "neck")["target"]))
        self.assertEqual(put(self.client, f"{path}/map-version", {"version": 2}).json()["map"]["version"], 4)
        self.assertEqual(put(self.client, f"{path}/map-version", {"version": 77}).status_code, 422)
        document["pairs"][0]["target"] = ["nobody"]
        for data, words in ((b"{", "not JSON"), (b"[]", "map/1"), (json.dumps(document).encode(), "no bone 'nobody'")):
            answer = bring(data)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, answer.json()["detail"])
        self.assertEqual(Character.objects.get().maps.count(), 4)

    def test_an_earlier_map_is_compared_with_the_newest(self):
        out = self.added("wick.glb")
        path = f"/api/characters/{out['id']}"
        self.assertEqual(self.client.get(f"{path}/map-versions/1").json(), [])
        put(self.client, f"{path}/map", {"bone": "neck", "target": []})
        put(self.client, f"{path}/rest", {"bone": "leftFoot", "degrees": [12, 0, 0]})
        put(self.client, f"{path}/effectors", {"effectors": [{"effector": "leftHand", "target": "grip"}]})
        drivers = [d | {"gain": 0.5} if d["target"] == "wick_face_JawOpen" else d for d in out["map"]["drivers"]]
        put(self.client, f"{path}/shapes", {"drivers": drivers})
        told = {d["subject"]: (d["before"], d["now"]) for d in self.client.get(f"{path}/map-versions/1").json()}
        self.assertEqual(told.pop("neck"), (pair(out, "neck")["target"][0], "nothing"))
        foot = f"{pair(out, 'leftFoot')['target'][0]}, at rest"
        self.assertEqual(told.pop(foot), ("as matched", "by hand, 12° from there"))
        self.assertEqual(told.pop("leftHand, effector"), ("not named", "grip"))
        self.assertEqual(told, {"wick_face_JawOpen by jawOpen": ("×1.00", "×0.50")})
        put(self.client, f"{path}/map-version", {"version": 1})
        self.assertEqual(self.client.get(f"{path}/map-versions/1").json(), [])
        self.assertEqual(len(self.client.get(f"{path}/map-versions/2").json()), 1)
        self.assertIn("no map of version 9", self.client.get(f"{path}/map-versions/9").json()["detail"])

    def test_effectors_are_named_and_a_chain_is_shared_by_hand(self):
        out = self.added("wick.glb")
        path = f"/api/characters/{out['id']}"
        named = put(self.client, f"{path}/effectors", {"effectors": [{"effector": "leftHand", "target": "grip"},
                                                                     {"effector": "hips", "target": " "}]}).json()  # fmt: skip
        self.assertEqual(
            [e for e in named["map"]["effectors"] if e["target"]], [{"effector": "leftHand", "target": "grip"}]
        )
        self.assertEqual(len(named["map"]["effectors"]), 9)
        wrong = put(self.client, f"{path}/effectors", {"effectors": [{"effector": "tail", "target": "x"}]})
        self.assertIn("'tail' is none", wrong.json()["detail"])
        chain = max((p for p in out["map"]["pairs"] if p["bone"] in ("spine", "chest")), key=lambda p: len(p["target"]))
        self.assertGreater(len(chain["target"]), 1)
        body = {"bone": chain["bone"], "target": chain["target"], "shares": [0.1, 1.0]}
        self.assertEqual(pair(put(self.client, f"{path}/map", body).json(), chain["bone"])["shares"], [0.1, 1.0])
        wrong = put(self.client, f"{path}/map", body | {"shares": [0.9, 0.2]}).json()["detail"]
        self.assertIn("turns back along its chain", wrong)
        document = self.client.get(f"{path}/map-document").json()
        self.assertEqual(
            document["effectors"], [{"effector": "leftHand", "target": "grip"}], "other changes leave them"
        )

    def test_a_rest_pose_is_corrected_by_hand_and_stays_when_the_map_changes_elsewhere(self):
        out = self.added("wick.glb")
        path = f"/api/characters/{out['id']}"
        turned = put(self.client, f"{path}/rest", {"bone": "leftUpperArm", "degrees": [0, 0, 30]}).json()
        np.testing.assert_allclose(pair(turned, "leftUpperArm")["rest_turn"], [0, 0, 30], atol=0.01)
        self.assertEqual(turned["map"]["version"], 2)

        def rest():
            rows = Character.objects.get().maps.first().document["rest_pose"]
            return next(r for r in rows if r["bone"] == pair(out, "leftUpperArm")["target"][0])

        by_hand = np.array(rest()["rotation_xyzw"])
        put(self.client, f"{path}/map", {"bone": "neck", "target": []})
        np.testing.assert_allclose(rest()["rotation_xyzw"], by_hand, atol=1e-6)
        back = put(self.client, f"{path}/rest", {"bone": "leftUpperArm", "degrees": None}).json()
        self.assertIsNone(pair(back, "leftUpperArm")["rest_turn"])
        between = quaternion_multiply(by_hand, np.array(rest()["rotation_xyzw"]) * [-1, -1, -1, 1])
        self.assertAlmostEqual(np.degrees(2 * np.arccos(abs(between[3]))), 30, places=3)
        for wrong in (
            {"bone": "tail", "degrees": [0, 0, 0]},
            {"bone": "head", "degrees": [0, 900, 0]},
            {"bone": "head", "degrees": [1]},
        ):
            self.assertEqual(put(self.client, f"{path}/rest", wrong).status_code, 422)

    def test_one_side_of_a_map_mirrors_to_the_other(self):
        for name in ("wick.glb", "gull.glb"):
            out = self.added(name)
            path = f"/api/characters/{out['id']}"
            for bone in ("rightUpperArm", "rightLowerLeg", "rightIndexProximal"):
                put(self.client, f"{path}/map", {"bone": bone, "target": []})
            back = put(self.client, f"{path}/mirror", {"side": "left"}).json()
            self.assertEqual(back["map"]["version"], 5)
            for one in out["map"]["pairs"]:
                if one["bone"].startswith("right"):
                    self.assertEqual(pair(back, one["bone"])["target"], one["target"], f"{name} {one['bone']}")
            self.assertEqual(put(self.client, f"{path}/mirror", {"side": "up"}).status_code, 422)

    def test_what_moves_the_face_is_changed_with_gains_and_mixtures(self):
        out = self.added("gull.glb")
        self.assertEqual(out["map"]["drivers"], [], "its shapes have names of their own")
        target = out["shapes"][0]
        rows = [
            {"shape": "jawOpen", "target": target, "gain": 0.5},
            {"shape": "mouthPucker", "target": target, "high": 0.8},
        ]
        path = f"/api/characters/{out['id']}"
        now = put(self.client, f"{path}/shapes", {"drivers": rows}).json()["map"]
        self.assertEqual((now["version"], [(d["shape"], d["gain"], d["high"]) for d in now["drivers"]]),
                         (2, [("jawOpen", 0.5, 1.0), ("mouthPucker", 1.0, 0.8)]))  # fmt: skip
        put(self.client, f"{path}/map", {"bone": "neck", "target": []})
        kept = Character.objects.get().maps.first().document["shapes"]
        self.assertEqual(len(kept), 2, "a change of a bone leaves the face")
        for wrong in ({"shape": "grin", "target": target}, {"shape": "jawOpen", "target": "nose"},
                      {"shape": "jawOpen", "target": target, "low": 1, "high": 0}):  # fmt: skip
            answer = put(self.client, f"{path}/shapes", {"drivers": [wrong]})
            self.assertEqual(answer.status_code, 422)
            self.assertIn("shapes[0]", answer.json()["detail"])
