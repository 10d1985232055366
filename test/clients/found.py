#!/usr/bin/python3
"""Looks for services by multicast DNS on loopback, and prints each that is found and each that says goodbye. Ends after so many lines, or seconds.

found.py LINES SECONDS TYPE..."""
import sys
import threading

from zeroconf import ServiceBrowser, ServiceListener, Zeroconf

most, seconds, kinds = int(sys.argv[1]), float(sys.argv[2]), sys.argv[3:]
done = threading.Event()
said = []


class Says(ServiceListener):
    def say(self, text):
        if text in said:
            return
        said.append(text)
        print(text, flush=True)
        if len(said) >= most:
            done.set()

    def add_service(self, zc, kind, name):
        info = zc.get_service_info(kind, name, timeout=3000)
        texts = {} if info is None else {k.decode(): (v or b"").decode() for k, v in info.properties.items() if k}
        self.say(f"found {name} {info.server if info else '?'} {info.port if info else '?'} {' '.join(info.parsed_addresses()) if info else '?'} {texts}")

    def update_service(self, zc, kind, name):
        self.add_service(zc, kind, name)

    def remove_service(self, zc, kind, name):
        self.say(f"gone {name}")


zc = Zeroconf(interfaces=["127.0.0.1"])
browser = ServiceBrowser(zc, kinds, Says())
done.wait(seconds)
zc.close()
