"""Descriptions of phone channels: who may call, what may be called, and what is wrong with them."""

import unittest

from fond_echo.core.telephony.errors import MalformedValue
from fond_echo.documents.errors import FileError, InvalidFile, NotAllowed, nearest
from fond_echo.documents.phone import read_phone

TRUNK = """\
phone: harbour
listen: {host: 127.0.0.1, port: 5070, public: 198.51.100.4}
numbers: ["+441632960100"]
registrars:
  - registrar: wharf
    uri: sip:wharf.example:5065
    aor: sip:desk@wharf.example
    user: desk
    password: {secret: wharf-word}
outbound: {by: wharf, country: "44", allowed: ["+441632*", "100"]}
"""


def refused(text):
    try:
        read_phone(text, "harbour.yaml")
    except InvalidFile as error:
        return " | ".join(map(str, error.errors))
    return ""


class Phones(unittest.TestCase):
    def test_a_good_one(self):
        phone = read_phone(TRUNK, "harbour.yaml")
        self.assertEqual(phone.address, "sip:+441632960100@198.51.100.4:5070")
        self.assertTrue(phone.leads_here("+441632960100"))
        self.assertFalse(phone.leads_here("+441632960101"))
        self.assertEqual(phone.max_calls, 20)

    def test_all_numbers_lead_to_a_line_that_names_none(self):
        phone = read_phone("phone: pier\npeers: [192.0.2.0/24]\n", "p.yaml")
        self.assertTrue(phone.leads_here("anything at all"))
        self.assertEqual(phone.address, "sip:anything@127.0.0.1:5060")

    def test_who_may_call_without_being_asked(self):
        phone = read_phone("phone: pier\npeers: [192.0.2.0/24, '2001:db8::7']\n", "p.yaml")
        for host, may in (
            ("192.0.2.77", True), ("192.0.3.1", False), ("2001:db8::7", True), ("2001:db8::8", False),
        ):  # fmt: skip
            self.assertEqual(phone.may_call(host), may, host)
        self.assertTrue(read_phone(TRUNK, "h.yaml").may_call("wharf.example"))
        self.assertFalse(read_phone(TRUNK, "h.yaml").may_call("192.0.2.77"))

    def test_what_may_be_called_in_one_form(self):
        phone = read_phone(TRUNK, "harbour.yaml")
        for text in ("+44 1632 960123", "01632 960123", "00441632960123", "(01632) 960-123"):
            self.assertEqual(phone.may_be_called(text), "+441632960123", text)
        with self.assertRaises(NotAllowed) as reported:
            phone.may_be_called("+1 202 555 0100")
        self.assertIn("+12025550100", str(reported.exception))
        self.assertIn("+441632*", reported.exception.remedy)
        with self.assertRaises(MalformedValue):
            phone.may_be_called("the baker")

    def test_what_can_never_match_is_warned_about(self):
        base = "phone: pier\npeers: [192.0.2.1]\n"
        text = base + "outbound: {via: a, country: '44', allowed: ['01632*', '+441632*', '20*']}\n"
        (warning,) = read_phone(text, "p.yaml").warnings()
        self.assertIn("'01632*' never matches", warning)
        self.assertIn("'+441632*'", warning)
        self.assertEqual(read_phone(base, "p.yaml").warnings(), [])

    def test_a_line_that_calls_nobody(self):
        phone = read_phone("phone: pier\npeers: [192.0.2.1]\n", "p.yaml")
        with self.assertRaises(NotAllowed) as reported:
            phone.may_be_called("01632960123")
        self.assertIn("outbound", reported.exception.remedy)

    def test_each_mistake_is_named_where_it_is(self):
        base = "phone: pier\npeers: [192.0.2.1]\n"
        for text, words in (
            ("phone: pier\n", "nobody can call"),
            ("phone: pier\npeers: [here]\n", "here"),
            (base + "listen: {host: localhost}\n", "localhost"),
            (base + "listen: {port: 70000}\n", "65535"),
            (base + "listen: {media: [4000, 4000]}\n", "at least two"),
            (base + "max_calls: 0\n", "greater than or equal to 1"),
            (base + "outbound: {allowed: ['+44*']}\n", "say one of them"),
            (base + "outbound: {by: x, via: a, allowed: ['+44*']}\n", "say one of them"),
            (base + "outbound: {by: quay, allowed: ['+44*']}\n", "no registrar of that name"),
            (base + "outbound: {via: a, allowed: []}\n", "at least 1"),
            (base + "outbound: {via: 'a;transport=smoke', allowed: ['1']}\n", ";transport=tcp"),
            (base + "call_handling: {max_digits: 0}\n", "max_digits"),
            (base + "call_handling: {terminator: '##'}\n", "one key"),
            (base + "call_handling: {bargein: false}\n", "barge_in"),
            (base + "numbers: ['a b']\n", "no spaces"),
            ("phone: The Pier\npeers: [192.0.2.1]\n", "lower-case letters"),
            (TRUNK.replace("uri: sip:", "uri: http:"), "sip:HOST:PORT"),
            (TRUNK.replace("desk@", ""), "sip:USER@HOST"),
            (TRUNK.replace("uri: sip:", "uri: sips:"), "not spoken here"),
            (TRUNK.replace("sip:wharf.example", "sip:wharf.example;transport=tls"), "not spoken"),
            (TRUNK.replace('"44"', "GB"), "without +"),
        ):
            with self.subTest(text):
                reported = refused(text)
                self.assertIn("harbour.yaml:", reported)
                self.assertIn(words, reported)

    def test_all_mistakes_are_told_at_once_in_order(self):
        reported = refused("phone: pier\npeers: [192.0.2.1]\ncalls: many\nlisten: {port: 0}\n")
        self.assertLess(reported.index("harbour.yaml:3"), reported.index("harbour.yaml:4"))


class Errors(unittest.TestCase):
    def test_they_stand_in_the_order_of_the_file(self):
        later, first = FileError("a", 9, 1, "late"), FileError("a", 2, 5, "early", "correct it")
        error = InvalidFile([later, first])
        self.assertEqual(error.errors, (first, later))
        self.assertEqual(str(first), "a:2:5: early (correct it)")
        self.assertIn("1 more", str(error))

    def test_the_nearest_name_or_all_of_them(self):
        self.assertEqual(nearest("grammer", ["grammar", "person"]), "did you mean grammar?")
        self.assertEqual(nearest("x", ["grammar", "alpha"]), "known: alpha, grammar")
        self.assertEqual(nearest("x", []), "none are known")


if __name__ == "__main__":
    unittest.main()
