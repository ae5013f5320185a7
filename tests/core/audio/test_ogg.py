import unittest

from fond_echo.core.audio import ogg
from fond_echo.core.audio.errors import BrokenSound


def slow_checksum(data: bytes) -> int:
    """The CRC of RFC 3533, bit by bit."""
    value = 0
    for byte in data:
        value ^= byte << 24
        for _ in range(8):
            value = (value << 1 ^ 0x04C11DB7 if value & 0x80000000 else value << 1) & 0xFFFFFFFF
    return value


def lay_out(packets: list[bytes], per_page: int = 50) -> list[ogg.Page]:
    timed = [(packet, 960 * (k + 1)) for k, packet in enumerate(packets)]
    return list(ogg.pages_of(timed, serial=9, sequence=0, per_page=per_page))


class Checksum(unittest.TestCase):
    def test_equals_the_definition(self):
        for data in (b"", b"\0", b"OggS", bytes(range(256)) * 3):
            self.assertEqual(ogg.checksum(data), slow_checksum(data))


class Pages(unittest.TestCase):
    def test_packets_come_back_whatever_their_size(self):
        packets = [
            bytes([k % 251]) * size for k, size in enumerate((0, 1, 254, 255, 256, 510, 70_000, 3))
        ]
        for per_page in (1, 3, 50):
            with self.subTest(per_page=per_page):
                pages = lay_out(packets, per_page)
                self.assertEqual([packet for packet, _ in ogg.packets_of(pages)], packets)

    def test_a_long_packet_goes_on_and_its_page_has_no_position(self):
        pages = lay_out([b"x" * 70_000])
        self.assertEqual([page.granule for page in pages], [ogg.NO_GRANULE, 960])
        self.assertEqual([page.continued for page in pages], [False, True])

    def test_bytes_may_arrive_in_any_pieces(self):
        pages = lay_out([b"a" * 300, b"b" * 20, b"c" * 1_000], per_page=1)
        data = b"".join(page.to_bytes() for page in pages)
        for step in (1, 7, 100, len(data)):
            reader = ogg.PageReader()
            found = [
                page for k in range(0, len(data), step) for page in reader.feed(data[k : k + step])
            ]
            self.assertEqual(found, pages)

    def test_rubbish_between_pages_is_skipped_and_counted(self):
        first, second = (page.to_bytes() for page in lay_out([b"a", b"b"], per_page=1))
        reader = ogg.PageReader()
        self.assertEqual(len(reader.feed(b"noise" + first + b"OgOggnoise" + second)), 2)
        self.assertEqual(reader.skipped, 15)

    def test_a_damaged_page_is_left_out_and_counted(self):
        first, second = (page.to_bytes() for page in lay_out([b"aaaa", b"bbbb"], per_page=1))
        damaged = first[:-1] + b"!"
        reader = ogg.PageReader()
        self.assertEqual([page.body for page in reader.feed(damaged + second)], [b"bbbb"])
        self.assertEqual(reader.damaged, 1)

    def test_the_end_of_a_packet_whose_beginning_is_lost_is_left_out(self):
        pages = lay_out([b"x" * 70_000, b"whole"], per_page=50)
        self.assertEqual([packet for packet, _ in ogg.packets_of(pages[1:])], [b"whole"])

    def test_two_streams_are_refused(self):
        other = ogg.Page(1, 0, 0, (1,), b"z")
        with self.assertRaisesRegex(BrokenSound, "several streams"):
            list(ogg.packets_of([*lay_out([b"a"]), other]))
