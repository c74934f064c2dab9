"""Files for engines that run containers: against the schemas of Kubernetes, and against rules of our own."""

import unittest
from typing import Any

import yaml
from hypothesis import given
from hypothesis import strategies as st

from rhizon.core.allocate.memory import HostMemory
from rhizon.core.handover.compose import compose_document
from rhizon.core.handover.container import container_files
from rhizon.core.handover.deployment import DeployedPort, Deployment, container_memory_mib
from rhizon.core.handover.kubernetes import kubernetes_files, parse_cluster_version, port_name
from rhizon.core.yaml_text import to_yaml

PRINTABLE = st.text(st.characters(exclude_categories=["C", "Z"], include_characters=" \n"))
LONG_ROLE = "a-role-with-a-long-name"


def deployment(**fields: Any) -> Deployment:
    ports = (DeployedPort("game", 21641, ("tcp", "udp")), DeployedPort(LONG_ROLE, 65535, ("udp",)))
    given = {
        "name": "marsh", "title": 'The "marsh" $evening', "image": "marsh:0a1b", "version": "0.1.0",
        "lock": '{\n "format": "rhizon-lock/1"\n}\n', "lock_sha256": "ab" * 32,
        "files": {"config/games/tarnholt.game.toml": "x = 1\n"}, "heap_mib": 1024, "need_mib": 1184, "memory_mib": 1408,
        "ports": ports, "roles": {"game": 21641}, "secrets": ("join_password",), "disk_mib": 2048,
        "ready_seconds": 240, "stop_seconds": 90,
    }  # fmt: skip
    return Deployment(**(given | fields))


def every(one: Deployment, cluster: str = "1.27", **how: Any) -> list[dict[str, Any]]:
    files = kubernetes_files(
        one, cluster=parse_cluster_version(cluster), **({"backup_at": "30 4 * * *", "exec_image": "kubectl"} | how)
    )
    return [document for name, documents in files.items() if name != "kustomization.yaml" for document in documents]


class Kubernetes(unittest.TestCase):
    def test_schemas_of_several_versions(self) -> None:
        import kubernetes_validate

        for version in ("1.25", "1.27", "1.29", "1.31"):
            for one in (deployment(), deployment(secrets=(), ports=(), whole=False, files={})):
                for document in every(one, version, node="alpha"):
                    with self.subTest(version=version, kind=document["kind"]):
                        kubernetes_validate.validate(document, version, strict=True)
        broken = every(deployment())[-1] | {"specification": {}}
        with self.assertRaises(kubernetes_validate.ValidationError):
            kubernetes_validate.validate(broken, "1.27", strict=True)

    def test_what_pods_may_do(self) -> None:
        """The restricted profile, and nothing beside the files of the server."""
        found = {f"{one['kind']} {one['metadata']['name']}": one for one in every(deployment())}
        job = found["CronJob marsh-backup"]["spec"]["jobTemplate"]["spec"]["template"]["spec"]
        for pod in (found["StatefulSet marsh"]["spec"]["template"]["spec"], job):
            self.assertTrue(pod["securityContext"]["runAsNonRoot"])
            self.assertEqual(pod["securityContext"]["seccompProfile"], {"type": "RuntimeDefault"})
            for one in (*pod.get("initContainers", ()), *pod["containers"]):
                context = one["securityContext"]
                self.assertEqual(context["capabilities"], {"drop": ["ALL"]})
                self.assertEqual(
                    (context["allowPrivilegeEscalation"], context["readOnlyRootFilesystem"]), (False, True)
                )
        server = found["StatefulSet marsh"]["spec"]["template"]["spec"]
        self.assertIs(server["automountServiceAccountToken"], False)
        policy = found["NetworkPolicy marsh"]["spec"]
        self.assertEqual((policy["policyTypes"], policy.get("egress")), (["Ingress", "Egress"], None))
        self.assertIn("marsh-tcp", found["Service marsh-tcp"]["metadata"]["name"])
        self.assertEqual([one["port"] for one in found["Service marsh-udp"]["spec"]["ports"]], [21641, 65535])
        names = [one["name"] for one in server["containers"][0]["ports"]]
        self.assertEqual(len(set(names)), len(names))
        self.assertTrue(all(len(one) <= 15 for one in (*names, port_name(LONG_ROLE, 65535, "tcp"))))
        secret = next(one["secret"] for one in server["volumes"] if one["name"] == "secrets")
        self.assertEqual(secret["secretName"], "marsh-secrets")

    def test_older_clusters(self) -> None:
        for version, group, egress in (("1.20", "batch/v1beta1", 2), ("v1.21.3", "batch/v1", 2)):
            documents = {one["kind"]: one for one in every(deployment(whole=False), version)}
            self.assertEqual(documents["CronJob"]["apiVersion"], group)
            self.assertEqual(len(documents["NetworkPolicy"]["spec"]["egress"]), egress)
        self.assertNotIn("CronJob", {one["kind"] for one in every(deployment(), backup_at=None)})
        for wrong in ("1", "one.two", "1.9", ""):
            with self.assertRaises(ValueError):
                parse_cluster_version(wrong)


class Containers(unittest.TestCase):
    def test_names_no_registry_and_no_secret(self) -> None:
        for wheels in (True, False):
            text = container_files(deployment(), wheels=wheels)["Containerfile"]
            sources = [line.split()[1] for line in text.splitlines() if line.startswith("FROM")]
            self.assertEqual(sources, ["${BASE}", "${BASE}"])
            self.assertIn("USER 10001:10001", text)
            self.assertIn('"--secret", "join_password=/run/secrets/join_password"', text)
            self.assertIn('title="The \\"marsh\\" \\$evening"', text)
            self.assertEqual("--offline" in text, True)
            self.assertEqual("--no-index" in text, wheels)

    def test_compose(self) -> None:
        document = compose_document(deployment())
        service = document["services"]["server"]
        self.assertEqual(service["ports"], ["21641:21641/tcp", "21641:21641/udp", "65535:65535/udp"])
        self.assertEqual((service["mem_limit"], service["stop_grace_period"]), ("1408m", "90s"))
        self.assertEqual(document["secrets"], {"join_password": {"file": "./secrets/join_password"}})
        self.assertNotIn("secrets", compose_document(deployment(secrets=())))
        self.assertEqual(yaml.safe_load(to_yaml([document])), document)

    @given(st.integers(1, 200_000))
    def test_what_a_container_has_is_enough(self, need: int) -> None:
        """Rhizon grants what a server needs, in a container with that limit and nothing else."""
        limit = container_memory_mib(need)
        self.assertGreaterEqual(HostMemory(total_mib=limit).for_servers_mib, need)
        self.assertLessEqual(limit, need + max(need // 7, 256) + 129)

    @given(st.dictionaries(PRINTABLE.filter(bool), PRINTABLE, max_size=4))
    def test_texts_survive_yaml(self, texts: dict[str, str]) -> None:
        texts |= {"lock": '{\n  "a": "b"\n}\n', "odd": "a: b # c\n\n  d"}
        self.assertEqual(yaml.safe_load(to_yaml([texts])), texts)
