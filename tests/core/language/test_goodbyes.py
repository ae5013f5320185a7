"""Sentences that end a talk, and sentences that do not."""

import unittest

from fond_echo.core.language.en.intents import intent_of
from fond_echo.core.language.en.spoken import spoken_tokens

ENDING = """\
That will do for today
I have what I need, cheers
That'll be all
Right, I'm off then
Thanks, that's me sorted
Okay that's everything thanks
No that's it, thank you
Perfect, bye now
Cheers, bye
Thank you, goodbye
Good night then
Have a lovely evening
I'll let you go
I'll leave you to it
Nothing else, thanks
No, nothing more
That's all I wanted to know
That answers my question
That was all
I think we're done here
We're finished
Talk to you later
See you tomorrow
Catch you later
Ta-ra
Bye bye
Goodbye and thanks for your help
I'm good, thanks
All good, thank you
No more questions
That's me done
I don't need anything else
You've been very helpful, bye
Great, thanks a lot, bye-bye
Right then, goodbye
I must dash
I've got to run
I have to go now
Time to go
Gotta go
Okay I'm hanging up now
You can hang up now
That covers it
That's plenty, thank you
Enough for now
I'm all set
All done, thanks
Let's leave it there
Let's stop here
End the call please
Close the conversation
Finish here please
Have a good one
Enjoy your day
Speak soon
Until next time
Take care
So long
Farewell
Thanks, take care, bye
"""

GOING_ON = """\
When is the last boat
I have to go to Pell now
Is that all you have
That's all right
Can I leave my bike there
How do I say goodbye in Spanish
Can I take care of my dog on board
Where do I leave the boat
I have what I need for the bicycle, how much is it
Do you close today
See you have a timetable
Is there enough for now two people
When do you finish today
So long as it sails I am happy
I need to go home tomorrow
"""


class Goodbyes(unittest.TestCase):
    def test_sixty_ways_to_end(self):
        for text in ENDING.splitlines():
            with self.subTest(text):
                self.assertEqual(intent_of(spoken_tokens(text)), "goodbye")

    def test_what_sounds_like_an_end_and_is_none(self):
        for text in GOING_ON.splitlines():
            with self.subTest(text):
                self.assertNotEqual(intent_of(spoken_tokens(text)), "goodbye")


if __name__ == "__main__":
    unittest.main()
