"""Values of SIP fields, read and written, and what two descriptions come to."""

import unittest
from dataclasses import replace

from fond_echo.core.telephony.errors import MalformedDescription, MalformedValue, NoCommonMedia
from fond_echo.core.telephony.sip.sdp import (
    OPUS,
    PCMA,
    PCMU,
    Agreed,
    Terms,
    agree,
    answer,
    offer,
    read_description,
)
from fond_echo.core.telephony.sip.values import (
    Hop,
    parse_address,
    parse_parameters,
    parse_sequence,
    parse_uri,
    parse_via,
    split_list,
)

HERE = Terms("192.0.2.1", 40_000, 7)


def description(*lines, host="198.51.100.9"):
    whole = ["v=0", f"o=- 1 1 IN IP4 {host}", "s=-", f"c=IN IP4 {host}", "t=0 0", *lines]
    return "\r\n".join([*whole, ""]).encode()


class Uris(unittest.TestCase):
    def test_every_part_is_read_and_written_again(self):
        text = "sips:%2B441632960123;phone-context=x:word@[2001:db8::9]:5071;Transport=tcp;lr?a=b"
        uri = parse_uri(text)
        self.assertEqual(str(uri), text)
        self.assertEqual(uri.number, "+441632960123")
        self.assertEqual((uri.host, uri.port, uri.headers), ("[2001:db8::9]", 5071, "a=b"))
        self.assertEqual(uri.parameter("transport"), "tcp")
        self.assertEqual(uri.parameter("lr"), "")
        self.assertIsNone(uri.parameter("maddr"))

    def test_a_password_does_not_show_itself(self):
        uri = parse_uri("sip:alma:geheim@pell.example")
        self.assertEqual(uri.password, "geheim")
        self.assertNotIn("geheim", repr(uri))

    def test_other_schemes_are_kept_as_they_stand(self):
        uri = parse_uri("TEL:+441632960123;phone-context=pell.example")
        self.assertEqual(str(uri), "tel:+441632960123;phone-context=pell.example")
        self.assertEqual(uri.host, "")

    def test_what_is_none(self):
        for text in (
            "pell.example", "sip:", ":x", "sip:a b@c", "sip:@c", "sip:u@", "sip:u@-c", "sip:u@c:0",
            "sip:u@c:70000", "sip:u@c:12x", "sip:u@c;;lr", "1sip:u@c", "sip:<u>@c", "sip:u%2@c",
        ):  # fmt: skip
            with self.subTest(text), self.assertRaises(MalformedValue):
                parse_uri(text)


class Addresses(unittest.TestCase):
    def test_names_with_and_without_quotes(self):
        quoted = parse_address(r'"Hale, \"Alma\" \\" <sip:a@pell.example;x=1>;tag=9;q')
        self.assertEqual(quoted.name, 'Hale, "Alma" \\')
        self.assertEqual(quoted.tag, "9")
        self.assertEqual(quoted.uri.parameter("x"), "1")
        self.assertEqual(parse_address(str(quoted)), quoted)
        self.assertEqual(parse_address("Alma Hale <sip:a@b>").name, "Alma Hale")

    def test_without_brackets_parameters_are_the_field_s(self):
        address = parse_address("sip:a@pell.example;tag=4")
        self.assertEqual(address.tag, "4")
        self.assertEqual(address.uri.parameters, ())

    def test_another_tag_takes_the_place_of_the_first(self):
        address = parse_address("<sip:a@b>;Tag=old;q=1").with_tag("new")
        self.assertEqual(str(address), "<sip:a@b>;q=1;tag=new")
        self.assertEqual(parse_address("<sip:a@b>").tag, "")

    def test_what_is_none(self):
        for text in (
            '"Alma <sip:a@b>', '"Alma" sip:a@b', "Al(ma <sip:a@b>", "<sip:a@b", "sip:a@b?c=d",
            "sip:a@b,sip:c@d", "<sip:a@b>tag=1", "<sip:a@b>;;x", '<sip:a@b>;"x"', "",
        ):  # fmt: skip
            with self.subTest(text), self.assertRaises(MalformedValue):
                parse_address(text)

    def test_lists_are_cut_at_commas_outside_of_quotes_and_brackets(self):
        self.assertEqual(
            split_list('"Hale, Alma" <sip:a@b;x=1,2>, <sip:c@d> ,, sip:e@f'),
            ['"Hale, Alma" <sip:a@b;x=1,2>', "<sip:c@d>", "sip:e@f"],
        )
        with self.assertRaises(MalformedValue):
            split_list('a, "b')

    def test_quoted_parameters_keep_their_semicolons(self):
        self.assertEqual(parse_parameters('; a = "x;y" ;b'), (("a", '"x;y"'), ("b", None)))


class Hops(unittest.TestCase):
    def test_a_via_is_read_and_parameters_are_set_in_their_place(self):
        via = parse_via("SIP / 2.0 / udp pell.example : 5090;rport;branch=z9hG4bK7")
        self.assertEqual((via.transport, via.host, via.port), ("UDP", "pell.example", 5090))
        self.assertEqual(via.branch, "z9hG4bK7")
        seen = via.with_parameter("rport", "40001").with_parameter("received", "192.0.2.7")
        self.assertEqual(
            str(seen),
            "SIP/2.0/UDP pell.example:5090;rport=40001;branch=z9hG4bK7;received=192.0.2.7",
        )

    def test_what_is_none(self):
        for text in ("SIP/1.0/UDP a", "SIP/2.0/UDP", "UDP a:1", "SIP/2.0/UDP a:b", "SIP/2.0/U P a"):
            with self.subTest(text), self.assertRaises(MalformedValue):
                parse_via(text)

    def test_numbers_in_order(self):
        self.assertEqual(parse_sequence(" 4294 INVITE "), (4294, "INVITE"))
        for text in ("INVITE 1", "-1 BYE", "2147483648 BYE", "1", "1 A B", "٣ BYE"):
            with self.subTest(text), self.assertRaises(MalformedValue):
                parse_sequence(text)

    def test_only_over_udp_something_may_be_lost(self):
        self.assertFalse(Hop("a", 5060).reliable)
        self.assertTrue(Hop("a", 5060, "TCP").reliable)


class Agreeing(unittest.TestCase):
    def test_the_order_is_theirs(self):
        theirs = read_description(description("m=audio 4000 RTP/AVP 18 8 0"))
        self.assertEqual(agree(theirs, HERE).codec, PCMA)
        self.assertEqual(agree(theirs, replace(HERE, codecs=(PCMU,))).codec, PCMU)

    def test_a_payload_type_that_no_packet_can_have_is_none(self):
        lines = ("v=0", "o=- 1 1 IN IP4 192.0.2.4", "c=IN IP4 192.0.2.4", "m=audio 40100 RTP/AVP 300 999 0",
                 "a=rtpmap:300 PCMA/8000", "a=rtpmap:999 telephone-event/8000")  # fmt: skip
        agreed = agree(read_description("\r\n".join(lines).encode()), Terms("192.0.2.9", 20_000, 5))
        self.assertEqual((agreed.codec.name, agreed.payload, agreed.events), ("PCMU", 0, None))

    def test_payload_types_are_theirs_too(self):
        theirs = read_description(
            description(
                "m=audio 4000 RTP/AVP 96 97", "a=rtpmap:96 OPUS/48000/2",
                "a=rtpmap:97 telephone-event/8000", "a=ptime:40",
            )
        )  # fmt: skip
        agreed = agree(theirs, replace(HERE, codecs=(OPUS, PCMU)))
        self.assertEqual((agreed.codec, agreed.payload, agreed.events), (OPUS, 96, 97))
        self.assertEqual(agreed.packet_ms, 40)

    def test_a_packet_of_an_odd_length_is_taken_for_twenty(self):
        for value in ("25", "0", "abc", "1000", ""):
            theirs = read_description(description("m=audio 4 RTP/AVP 0", f"a=ptime:{value}"))
            self.assertEqual(agree(theirs, HERE).packet_ms, 20, value)

    def test_where_sound_goes_is_said_at_the_stream_before_the_session(self):
        theirs = read_description(
            description("m=audio 4000 RTP/AVP 0", "c=IN IP4 203.0.113.5", "a=sendonly")
        )
        agreed = agree(theirs, HERE)
        self.assertEqual((agreed.host, agreed.port), ("203.0.113.5", 4000))
        self.assertEqual(agreed.direction, "recvonly")

    def test_directions_of_the_session_hold_where_the_stream_says_nothing(self):
        held = read_description(description("a=inactive", "m=audio 4000 RTP/AVP 0"))
        self.assertEqual(agree(held, HERE).direction, "inactive")
        one = read_description(description("a=inactive", "m=audio 4 RTP/AVP 0", "a=recvonly"))
        self.assertEqual(agree(one, HERE).direction, "sendonly")

    def test_ours_on_hold_stays_so(self):
        theirs = read_description(description("m=audio 4000 RTP/AVP 0"))
        self.assertEqual(agree(theirs, replace(HERE, direction="sendonly")).direction, "sendonly")

    def test_other_streams_are_turned_off_in_their_places(self):
        theirs = read_description(
            description(
                "m=text 6000 RTP/AVP 98", "m=audio 0 RTP/AVP 0", "m=audio 4000 RTP/AVP 0",
                "m=application 5000 udp x",
            )
        )  # fmt: skip
        written, agreed = answer(theirs, HERE)
        ours = read_description(written)
        self.assertEqual([each.port for each in ours.media], [0, 0, 40_000, 0])
        self.assertEqual([each.kind for each in ours.media],
                         ["text", "audio", "audio", "application"])  # fmt: skip
        self.assertIsNone(agreed.events)
        self.assertNotIn(b"telephone-event", written)

    def test_over_the_sixth_version_of_the_internet(self):
        written = offer(replace(HERE, host="2001:db8::1"))
        self.assertIn(b"c=IN IP6 2001:db8::1", written)
        self.assertEqual(read_description(written).connection, "2001:db8::1")

    def test_nothing_in_common_says_what_each_has(self):
        theirs = read_description(description("m=audio 4 RTP/AVP 9", "a=rtpmap:9 G722/8000"))
        with self.assertRaises(NoCommonMedia) as refused:
            agree(theirs, HERE)
        self.assertIn("G722/8000", str(refused.exception))
        self.assertIn("PCMU/8000", refused.exception.remedy)
        for lines in (("m=audio 4 RTP/SAVP 0",), ("m=text 4 RTP/AVP 98",), ()):
            with self.subTest(lines), self.assertRaises(NoCommonMedia):
                agree(read_description(description(*lines)), HERE)

    def test_before_anything_is_agreed_nothing_goes_anywhere(self):
        self.assertEqual((Agreed.none().port, Agreed.none().direction), (0, "inactive"))

    def test_what_is_no_description(self):
        for data in (
            b"", b"v=1\r\n", b"v=0\r\ns=-\r\n", b"v=0\r\no=x\r\nnonsense\r\n",
            b"v=0\r\no=x\r\nm=audio 4 RTP/AVP 0\r\n", b"v=0\r\no=x\r\nc=IN IP5 a\r\n",
            b"v=0\r\no=x\r\nc=IN IP4 a\r\nm=audio 70000 RTP/AVP 0\r\n",
            b"v=0\r\no=x\r\nm=audio four RTP/AVP 0\r\n", b"v=0\r\no=x\r\n" + b"a=x\r\n" * 5_000,
        ):  # fmt: skip
            with self.subTest(data[:40]), self.assertRaises(MalformedDescription):
                read_description(data)
