from __future__ import annotations

from rilievo.core.image.metadata import MetadataNode, attributes_in, leaf, matching, xml_nodes


def test_searching_keeps_the_way_to_what_was_found() -> None:
    tree = (
        MetadataNode("Camera", "", (leaf("Gain", "3.1"), leaf("Offset", "100"))),
        MetadataNode("Stage", "", (leaf("x", "7"),)),
    )
    (found,) = matching(tree, "gain")
    assert found.as_text() == "Camera\n  Gain\t3.1"
    assert matching(tree, "100")[0].children[0].name == "Offset"
    assert matching(tree, "stage")[0].children == tree[1].children
    assert matching(tree, "nothing there") == ()
    assert matching(tree, "  ") == tree


def test_long_values_are_cut_and_broken_xml_is_nothing() -> None:
    assert len(leaf("a", "x" * 50_000).value) < 21_000
    assert xml_nodes("<a><b></a>") == ()
    (root,) = xml_nodes('<a:x xmlns:a="u" k="v"><y>text</y></a:x>')
    assert (root.name, root.children[0].value, root.children[1].value) == ("x", "v", "text")


def test_the_first_place_counts_and_empty_values_do_not() -> None:
    nodes = (leaf("EXPTIME", ""), leaf("EXPTIME", "3"), leaf("EXPTIME", "9"))
    assert attributes_in(nodes) == {"exposure": "3"}
