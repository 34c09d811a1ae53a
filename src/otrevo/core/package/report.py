"""The quality report of a package: one page of HTML that needs nothing else, every figure from the takes themselves."""

from html import escape

_STYLE = """body{font:15px/1.5 sans-serif;color:#23202b;background:#f7f2e8;max-width:60rem;margin:2rem auto;padding:0 1rem}
table{border-collapse:collapse;width:100%;margin:.6rem 0 1.6rem}td,th{border-bottom:1px solid #d8cfbf;padding:.3rem .6rem;
text-align:left;vertical-align:top}td.n{text-align:right;font-variant-numeric:tabular-nums}h2{margin-top:2rem}"""


def _number(value, unit="", digits=1):
    return "not measured" if value is None else f"{value:.{digits}f} {unit}".strip()


def quality_report(manifest, takes):
    """HTML text of the report for a manifest and its PackageTakes."""
    parts = [
        "<!doctype html><html lang=en><meta charset=utf-8>",
        f"<title>{escape(manifest['production'])}: quality report</title><style>{_STYLE}</style>",
        f"<h1>{escape(manifest['production'])}: quality report</h1>",
        f"<p>{len(takes)} takes at {escape(manifest['rate'])} frames per second. {escape(manifest['conventions']['body'])}.</p>",
    ]
    for take in takes:
        solve, label = take.figures.get("solve", {}), take.figures.get("label", {})
        rows = [
            ("Timecode", f"{take.log.get('first_timecode', '')} to {take.log.get('last_timecode', '')}"),
            (
                "Markers named",
                _number(100 * label["named_share"] if "named_share" in label else None, "% of samples", 2),
            ),
            ("Marker to body, RMS", _number(solve.get("residual_rms_mm"), "mm")),
            ("Marker to body, 95 %", _number(solve.get("residual_p95_mm"), "mm")),
            ("Worst marker", f"{solve.get('worst_marker', 'none')}, {_number(solve.get('worst_marker_mm'), 'mm')}"),
            *(
                (f"{name}: markers to prop, RMS", _number(f.get("residual_rms_mm"), "mm"))
                for name, f in (solve.get("props") or {}).items()
            ),
            ("Mends", str(take.log.get("mends", 0))),
            ("Note", take.log.get("note", "")),
        ]
        parts.append(f"<h2>{escape(take.name)}</h2><table>")
        parts += [f"<tr><th>{escape(k)}</th><td>{escape(str(v))}</td></tr>" for k, v in rows]
        parts.append("</table>")
        if take.snags:
            parts.append("<table><tr><th>What is left</th><th>From</th><th>Times the limit</th></tr>")
            for snag in take.snags[:40]:
                parts.append(
                    f"<tr><td>{escape(snag['text'])}</td><td class=n>{snag['start_s']:.2f} s</td>"
                    f"<td class=n>{snag['severity']:.1f}</td></tr>"
                )
            parts.append("</table>")
        else:
            parts.append("<p>No snags left.</p>")
    parts.append("<h2>Read back</h2><table><tr><th>File</th><th>Position</th><th>Rotation</th></tr>")
    for d in manifest["differences"]:
        parts.append(
            f"<tr><td>{escape(d['file'])}</td><td class=n>{_number(d.get('position_mm'), 'mm', 4)}</td>"
            f"<td class=n>{_number(d.get('rotation_deg'), '°', 5)}</td></tr>"
        )
    parts.append("</table></html>")
    return "\n".join(parts)
