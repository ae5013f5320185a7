"""SIP messages: what is valid however it looks, and what is not, with the answer it gets."""

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from fond_echo.core.telephony.errors import MalformedMessage, MalformedValue
from fond_echo.core.telephony.sip.message import (
    Fields,
    Framer,
    Request,
    Response,
    read_message,
    response_to,
)
from fond_echo.core.telephony.sip.values import (
    parse_address,
    parse_sequence,
    parse_uri,
    parse_via,
    split_list,
)

FIELDS = """\
Via: SIP/2.0/UDP quay.example:5060;branch=z9hG4bK1
From: "Isla Quennell" <sip:isla@quay.example>;tag=a1
To: <sip:2001@tern.example>
Call-ID: one@quay.example
CSeq: 7 INVITE
Max-Forwards: 70
Content-Length: 0
"""


def message(first="INVITE sip:2001@tern.example SIP/2.0", fields=FIELDS, body=""):
    return (first + "\n" + fields + "\n").replace("\n", "\r\n").encode() + body.encode()


class Valid(unittest.TestCase):
    def test_a_plain_request_and_back(self):
        read = read_message(message())
        self.assertIsInstance(read, Request)
        self.assertEqual((read.method, str(read.uri)), ("INVITE", "sip:2001@tern.example"))
        self.assertEqual((read.origin.name, read.origin.tag), ("Isla Quennell", "a1"))
        self.assertEqual(read.sequence, (7, "INVITE"))
        self.assertEqual(read_message(read.to_bytes()), read)

    def test_folded_compact_and_odd(self):
        odd = (
            b"INVITE sip:%32001@tern.example;user=phone SIP/2.0\r\n"
            b't:   <sip:2001@tern.example>  ;\r\n   x-odd = "a;b,c\\"d"\r\n'
            b'F:"He said \\"boat\\", twice"<sip:isla@quay.example>;tag=98\r\n'
            b"i:\r\n one@quay.example\r\n"
            b"cseq: 0009 \r\n   INVITE\r\n"
            b"V:  SIP  /   2.0\r\n /UDP   192.0.2.2;branch=390skd,SIP/2.0/TCP [2001:db8::9]:5070\r\n"
            b"\t;branch=z9hG4bK2;rport\r\n"
            b"NewField: something; else \xc3\xa9\r\n"
            b'k:\r\nMax-Forwards: 0068\r\nl:  4 \r\nm: "Q" <sip:q@h:5061;transport=tcp>;q=0.5, sip:w@h\r\n'
            b"\r\nboatand more"
        )
        read = read_message(odd)
        self.assertEqual(read.body, b"boat")
        self.assertEqual(read.uri.number, "2001")
        self.assertEqual(read.target.parameter("x-odd"), '"a;b,c\\"d"')
        self.assertEqual(read.origin.name, 'He said "boat", twice')
        self.assertEqual(read.sequence, (9, "INVITE"))
        first, second = read.vias
        self.assertEqual((first.host, first.branch), ("192.0.2.2", "390skd"))
        self.assertEqual(
            (second.host, second.port, second.transport), ("[2001:db8::9]", 5070, "TCP")
        )
        self.assertEqual(second.parameter("rport"), "")
        contact, other = read.contacts
        self.assertEqual(
            (contact.uri.parameter("transport"), contact.parameter("q")), ("tcp", "0.5")
        )
        self.assertEqual(other.uri.host, "h")
        self.assertEqual(read_message(read.to_bytes()).vias, read.vias)

    def test_methods_and_uris_of_every_kind(self):
        strange = "!interesting-Method0123456789_*+`.%indeed'~"
        fields = FIELDS.replace("7 INVITE", f"7 {strange}")
        self.assertEqual(
            read_message(message(f"{strange} sip:1_u%20e@h SIP/2.0", fields)).method, strange
        )
        for text in (
            "sips:a@b", "sip:h", "sip:a:b@h:5061;lr?x=y", "tel:+44-1632-960000;ext=2", "urn:service:sos",
            "sip:user;par=u%40example.net@h", "sip:[::1]:5060", "sip:a@192.0.2.1;transport=udp;lr",
        ):  # fmt: skip
            self.assertEqual(str(parse_uri(text)), text)
        self.assertEqual(parse_uri("sip:user;par=1@h").number, "user")

    def test_responses(self):
        for first, status, reason in (
            ("SIP/2.0 200 OK", 200, "OK"),
            ("SIP/2.0 100 ", 100, ""),
            ("SIP/2.0 100", 100, ""),
            ("SIP/2.0 200 = 2**3 * 5**2 но сто девяносто", 200, "= 2**3 * 5**2 но сто девяносто"),
        ):
            read = read_message(message(first))
            self.assertIsInstance(read, Response)
            self.assertEqual((read.status, read.reason), (status, reason))
            self.assertEqual(read_message(read.to_bytes()), read)

    def test_an_answer_has_what_it_must(self):
        request = read_message(message(fields=FIELDS + "Record-Route: <sip:p1;lr>\n"))
        answer = response_to(request, 200, tag="b2", fields=[("contact", "<sip:here@h>")])
        self.assertEqual(answer.target.tag, "b2")
        self.assertEqual((answer.vias, answer.call_id), (request.vias, request.call_id))
        self.assertEqual(response_to(request, 100, tag="b2").target.tag, "")
        again = response_to(
            read_message(request.to_bytes().replace(b"tern.example>", b"tern.example>;tag=z")),
            200,
            tag="b2",
        )
        self.assertEqual(again.target.tag, "z")

    def test_nobody_adds_a_field_through_a_value(self):
        fields = Fields((("via", "SIP/2.0/UDP h"), ("subject", "x\r\nRoute: <sip:evil>")))
        self.assertNotIn(
            b"\r\nRoute", Request(fields, b"", "OPTIONS", parse_uri("sip:h")).to_bytes()
        )


class Invalid(unittest.TestCase):
    def status_of(self, data):
        with self.assertRaises(MalformedMessage) as caught:
            read_message(data)
        return caught.exception.status, caught.exception.answerable is not None

    def test_each_with_the_answer_it_gets(self):
        replaced = lambda old, new: message(fields=FIELDS.replace(old, new))  # noqa: E731
        line = message
        for data, status in (
            (replaced("branch=z9hG4bK1", "branch=z9hG4bK1;;,;,,"), 400),
            (replaced("Length: 0", "Length: 9999"), 400),
            (replaced("Length: 0", "Length: -999"), 400),
            (replaced("7 INVITE", "36893488147419103232 INVITE"), 400),
            (replaced("7 INVITE", "7 OPTIONS"), 400),
            (replaced("Max-Forwards: 70", "Max-Forwards: 300"), 400),
            (replaced("Max-Forwards: 70", "Max-Forwards: many"), 400),
            (replaced('"Isla Quennell"', '"Isla Quennell'), 400),
            (replaced('"Isla Quennell"', "Isla, Quennell"), 400),
            (replaced("Call-ID: one@quay.example\n", ""), 400),
            (replaced("Call-ID: one@quay.example", "Call-ID: one\nCall-ID: two"), 400),
            (replaced("Max-Forwards: 70", "Contact: sip:isla@h?Route=%3Csip:h%3E"), 400),
            (replaced("Max-Forwards: 70", "no field at all"), 400),
            (replaced("Max-Forwards: 70", "Route: <sip:unclosed"), 400),
            (line("INVITE <sip:2001@tern.example> SIP/2.0"), 400),
            (line("INVITE sip:2001@tern.example; lr SIP/2.0"), 400),
            (line("INVITE  sip:2001@tern.example SIP/2.0"), 400),
            (line("INVITE sip:2001@tern.example SIP/2.0 "), 400),
            (line("INVITE sip:2001@tern.example?Route=%3Csip:h%3E SIP/2.0"), 400),
            (line("INVITE nothing SIP/2.0"), 400),
            (line("INVITE sip:2001@tern.example SIP/7.0"), 505),
        ):
            with self.subTest(data=data):
                self.assertEqual(self.status_of(data), (status, True))

    def test_what_cannot_be_answered(self):
        for data in (b"", b"\r\n\r\n", b"hello", b"\0" * 2_000, message("SIP/2.0 4294967301 Too big"),
                     message("ACK  sip:a@h SIP/2.0", FIELDS.replace("INVITE", "ACK"))):  # fmt: skip
            self.assertEqual(self.status_of(data), (400, False))
        self.assertEqual(self.status_of(b"x" * 70_000)[0], 513)
        self.assertEqual(self.status_of(message(fields=FIELDS + "A: b\n" * 500))[0], 400)

    def test_values(self):
        for read, text in (
            (parse_uri, "sip:"), (parse_uri, "sip:a b@h"), (parse_uri, "sip:a@h:99999"), (parse_uri, "sip:a%zz@h"),
            (parse_uri, "sip:a@-"), (parse_uri, "nothing"), (parse_via, "SIP/1.0/UDP h"), (parse_via, "SIP/2.0/UDP"),
            (parse_sequence, "INVITE"), (parse_sequence, "-1 INVITE"), (parse_address, ""), (parse_address, "<sip:a@h"),
            (parse_address, "<sip:a@h>;=x"), (split_list, 'a, "b'), (parse_uri, "sip:a@h;;lr"),
        ):  # fmt: skip
            with self.subTest(text=text), self.assertRaises(MalformedValue):
                read(text)

    @settings(max_examples=300, deadline=None)
    @given(st.data())
    def test_whatever_comes_it_is_read_or_refused(self, data):
        whole = bytearray(message(fields=FIELDS + 'Contact: "a" <sip:b@c;d=e>;f=g\n', body="v=0"))
        for _ in range(data.draw(st.integers(1, 6))):
            at = data.draw(st.integers(0, len(whole) - 1))
            cut = data.draw(st.integers(0, 9))
            whole[at : at + cut] = data.draw(st.binary(max_size=6))
        try:
            read = read_message(bytes(whole))
        except MalformedMessage:
            return
        self.assertEqual(read_message(read.to_bytes()).fields.get("cseq"), read.fields.get("cseq"))


class Streams(unittest.TestCase):
    def test_messages_are_found_wherever_the_bytes_are_cut(self):
        one = message(fields=FIELDS.replace("Length: 0", "Length: 5"), body="boats")
        two = message("SIP/2.0 200 OK")
        whole = b"\r\n\r\n" + one + two
        for size in (1, 2, 7, len(whole)):
            framer, found = Framer(), []
            for start in range(0, len(whole), size):
                found += framer.feed(whole[start : start + size])
            self.assertEqual([type(each) for each in found], [type(None), Request, Response])
            self.assertEqual(found[1].body, b"boats")

    def test_what_does_not_end_is_given_up(self):
        with self.assertRaises(MalformedMessage):
            Framer().feed(b"INVITE sip:a SIP/2.0\r\n" + b"A: b\r\n" * 20_000)
        with self.assertRaises(MalformedMessage):
            Framer().feed(message(fields=FIELDS.replace("Length: 0", "Length: 99999999")))
