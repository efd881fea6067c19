"""A second process finds the same answers, never more than that, and leaves nothing behind."""

import os
import signal
import threading
import time
import unittest
from unittest.mock import patch

from crossthread import Network, check
from crossthread.beside import _threads, beside
from crossthread.demo import faulty


@patch("crossthread.beside._threads", lambda: 1)  # other tests load libraries that have some
@patch("os.sched_getaffinity", lambda _: {0, 1}, create=True)
class Beside(unittest.TestCase):
    def asked(self, work):
        with beside(work) as answer:
            found = answer(), answer()
        with self.assertRaises(ChildProcessError):
            os.waitpid(-1, os.WNOHANG)  # nothing runs on, and nothing waits to be reaped
        self.assertEqual(found[0], found[1])
        return found[0]

    def test_it_is_another_process_that_answers(self):
        number, said = self.asked(lambda: (os.getpid(), ["over"] * 100_000))
        self.assertNotEqual(number, os.getpid())
        self.assertEqual(said, ["over"] * 100_000)

    def test_where_it_fails_there_is_no_answer_and_nothing_is_printed(self):
        for work in (lambda: 1 / 0, lambda: os._exit(3), lambda: lambda: 1, lambda: os.kill(os.getpid(), 9)):
            with self.subTest(work):
                self.assertIsNone(self.asked(work))

    def test_nobody_waits_for_an_answer_that_is_not_wanted(self):
        begin = time.monotonic()
        with self.assertRaisesRegex(ValueError, "sunk"), beside(lambda: time.sleep(60)):
            raise ValueError("sunk")
        self.assertLess(time.monotonic() - begin, 30)
        self.assertIsNone(self.asked(lambda: None))

    def test_no_other_process_where_that_would_be_unsafe_or_of_no_use(self):
        self.assertIsNotNone(self.asked(os.getpid))
        before = signal.signal(signal.SIGCHLD, signal.SIG_IGN)
        with beside(os.getpid) as answer:
            self.assertIsNone(answer())
        signal.signal(signal.SIGCHLD, before)
        with patch("os.sched_getaffinity", lambda _: {0}), beside(os.getpid) as answer:
            self.assertIsNone(answer())
        with patch("os.fork", side_effect=BlockingIOError):
            self.assertIsNone(self.asked(os.getpid))
        done = threading.Event()
        other = threading.Thread(target=done.wait)
        other.start()
        with patch("crossthread.beside._threads", _threads), beside(os.getpid) as answer:
            self.assertIsNone(answer())
        done.set()
        other.join()

    def test_the_check_says_the_same_with_it(self):
        alone = check(Network(faulty()))
        with patch("crossthread.questions.check._MANY", 0), patch("os.fork", wraps=os.fork) as forked:
            self.assertEqual(check(Network(faulty())), alone)
        forked.assert_called_once()
        with patch("crossthread.questions.check._MANY", 0), patch("os.fork", side_effect=OSError):
            self.assertEqual(check(Network(faulty())), alone)
