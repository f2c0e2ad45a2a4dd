"""What a renderer has as JSON: written down by machines, sent by those that reach the server alone, and read again."""

from kind_echo.core.registry.offer_documents import EffectDocument, HostDocument, OfferDocument
from kind_echo.renderers.contract import Offer, OfferedEffect, OfferedHost


def offer_document(offer: Offer) -> OfferDocument:
    """What a renderer has."""
    return {
        "queue": offer.queue, "description": offer.description, "accepts": offer.accepts,
        "hosts": [_host_document(host) for host in offer.hosts],
        "effects": [_effect_document(effect) for effect in offer.effects],
        "failed": [{"file": one.file, "reason": one.reason} for one in offer.failed],
    }  # fmt: skip


def _host_document(host: OfferedHost) -> HostDocument:
    return {
        "name": host.name, "version": host.version, "description": host.description, "modes": list(host.modes),
        "system": host.system, "hosting": list(host.hosting),
    }  # fmt: skip


def _effect_document(effect: OfferedEffect) -> EffectDocument:
    return {
        "name": effect.name, "handle": effect.handle, "description": effect.description,
        "parameters": list(effect.parameters), "versions": list(effect.versions), "patterns": list(effect.patterns),
        "channels": list(effect.channels),
    }  # fmt: skip


def host_from(document: HostDocument) -> OfferedHost:
    """The host that a document tells of."""
    return OfferedHost(
        document["name"], document["version"], document.get("description", ""),
        tuple(document.get("modes", ("offline",))), document.get("system", ""), tuple(document.get("hosting", ())),
    )  # fmt: skip


def effect_from(document: EffectDocument) -> OfferedEffect:
    """The effect that a document tells of."""
    return OfferedEffect(
        document["name"], document["handle"], document["description"], tuple(document["parameters"]),
        tuple(document["versions"]), tuple(document.get("patterns", ())), tuple(document.get("channels", ())),
    )  # fmt: skip
