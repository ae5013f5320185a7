"""Text as it is spoken, class by class: each row is a text and its words."""

import unittest

from fond_echo.core.language.en.spoken import spoken_tokens

ROWS = {
    "numbers": (
        ("7", "seven"),
        ("1,250 people", "one thousand two hundred and fifty people"),
        ("1000000", "one million"),
        ("-5 degrees", "minus five degrees"),
        ("12\xa0345 tickets", "twelve thousand three hundred and forty five tickets"),
        ("3 million", "three million"),
        ("0.5", "zero point five"),
        (".5 mile", "point five mile"),
    ),
    "ordinals": (
        ("1st", "first"),
        ("the 22nd boat", "the twenty second boat"),
        ("103rd", "one hundred and third"),
        ("Henry VIII", "henry the eighth"),
    ),
    "decimals": (
        ("pi is 3.14", "pi is three point one four"),
        ("2.50 m", "two point five zero metres"),
    ),
    "ranges": (
        ("9-12", "nine to twelve"),
        ("pages 4–6", "pages four to six"),
        ("10:00-11:30", "ten o'clock to half past eleven"),
        ("£3-£5", "three pounds to five pounds"),
        ("Mon-Fri", "monday to friday"),
        ("5–10%", "five to ten percent"),
        ("2026-2028", "twenty twenty six to twenty twenty eight"),
    ),
    "dates": (
        ("3 May 2026", "the third of may twenty twenty six"),
        ("2026-05-03", "the third of may twenty twenty six"),
        ("24/12/2026", "the twenty fourth of december twenty twenty six"),
        ("May 3", "may the third"),
        ("Sat 5 Dec", "saturday the fifth of december"),
        ("the 1990s", "the nineteen nineties"),
    ),
    "times": (
        ("16:10", "ten past four"),
        ("07:05", "five past seven"),
        ("9am", "nine a m"),
        ("9.30 pm", "nine thirty p m"),
        ("00:00", "midnight"),
        ("12:00", "noon"),
        ("16:10:30", "sixteen ten and thirty seconds"),
    ),
    "money": (
        ("£4.50", "four pounds fifty"),
        ("$1", "one dollar"),
        ("€1,250", "one thousand two hundred and fifty euros"),
        ("£0.80", "eighty pence"),
        ("80p", "eighty pence"),
        ("£2m", "two million pounds"),
        ("USD 20", "twenty dollars"),
        ("£1.00", "one pound"),
    ),
    "telephone": (
        ("01632 960102", "zero one six three two nine six zero one zero two"),
        ("+44 1632 960102", "four four one six three two nine six zero one zero two"),
        ("0800 123 456", "zero eight zero zero one two three four five six"),
        ("960-123", "nine six zero one two three"),
    ),
    "codes": (
        ("KS4L", "k s four l"),
        ("booking AB1234", "booking a b one two three four"),
        ("B12", "b twelve"),
        ("007", "zero zero seven"),
    ),
    "units": (
        ("5 km", "five kilometres"),
        ("1 kg", "one kilogram"),
        ("20°C", "twenty degrees celsius"),
        ("15 kn", "fifteen knots"),
        ("30 mph", "thirty miles an hour"),
        ("2 h", "two hours"),
        ("250 ml", "two hundred and fifty millilitres"),
        ("10 m²", "ten square metres"),
        ("5 ft", "five feet"),
        ("3 kWh", "three kilowatt hours"),
    ),
    "abbreviations": (
        ("Dr. Aldous", "doctor aldous"),
        ("Mr Ferrow", "mister ferrow"),
        ("e.g. boats", "for example boats"),
        ("approx. 5", "approximately five"),
        ("St. Ossel", "saint ossel"),
        ("Quay St.", "quay street"),
        ("No. 4", "number four"),
        ("vs.", "versus"),
        ("etc.", "and so on"),
        ("p. 5", "page five"),
        ("Sept. 3", "september the third"),
        ("max. 4", "maximum four"),
        ("min. 2", "minimum two"),
        ("Ms Brandt", "miz brandt"),
        ("Prof. Oduya", "professor oduya"),
        ("Ltd", "limited"),
    ),
    "initialisms": (
        ("the BBC", "the b b c"),
        ("NASA", "nasa"),
        ("U.S.", "u s"),
        ("the UK", "the u k"),
        ("a URL", "a u r l"),
        ("SMS", "s m s"),
        ("FAQ", "f a q"),
        ("TV", "t v"),
        ("OK", "ok"),
        ("USA", "u s a"),
        ("EU", "e u"),
    ),
    "addresses": (
        ("www.tern.example", "w w w dot tern dot example"),
        ("https://tern.example/fares", "tern dot example slash fares"),
        ("maren@tern.example", "maren at tern dot example"),
        ("tern.example/today", "tern dot example slash today"),
    ),
    "emoji": (
        ("See you soon 😊", "see you soon"),
        ("⛴️ at noon", "at noon"),
        ("👍", ""),
    ),
    "quotes": (
        ("“Petrel” is late", "petrel is late"),
        ("It's Isla’s", "it's isla's"),
        ("'Old Dunlin'", "old dunlin"),
    ),
    "brackets": (
        ("Pell (east pier)", "pell east pier"),
        ("[note] boats", "note boats"),
    ),
    "capitals": (
        ("PLEASE NOTE", "please note"),
        ("McAldous", "mcaldous"),
    ),
    "signs": (
        ("R&D", "r and d"),
        ("5 + 3 = 8", "five plus three equals eight"),
        ("50%", "fifty percent"),
        ("a/b", "a b"),
        ("and/or", "and or"),
        ("#1", "number one"),
        ("10 x 4", "ten x four"),
        ("2×4", "two times four"),
        ("~5", "about five"),
        ("½ hour", "half hour"),
        ("≥ 5", "at least five"),
    ),
}


class Table(unittest.TestCase):
    def test_every_class(self):
        for kind, rows in ROWS.items():
            for text, spoken in rows:
                with self.subTest(kind, text=text):
                    self.assertEqual(" ".join(spoken_tokens(text)), spoken)


if __name__ == "__main__":
    unittest.main()
