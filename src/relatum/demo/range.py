"""What the nursery sells, and to whom: every name here is made up, or a plant's common name."""

from __future__ import annotations

from msgspec import Struct

#: Share of a year's sales in each month, January first, by kind of season.
SEASONS = {
    "spring": (2, 4, 13, 20, 21, 12, 6, 4, 7, 6, 3, 2),
    "autumn": (7, 8, 12, 9, 6, 4, 3, 4, 10, 16, 14, 7),
    "even": (7, 8, 8, 8, 8, 7, 7, 7, 9, 9, 10, 12),
}


class Category(Struct, frozen=True):
    """A category: its plants, when they sell, how well, at what price a litre of pot, in which pots."""

    category_id: str
    department: str
    category: str
    season: str
    weight: float
    price: float
    pots: tuple[float, ...]
    plants: tuple[str, ...]


CATEGORIES = (
    Category("C01", "Perennials", "Ferns", "spring", 1.1, 4.6, (1, 2, 3),
             ("Hart's-tongue", "Lady Fern", "Male Fern", "Royal Fern", "Maidenhair", "Shield Fern", "Deer Fern",
              "Ostrich Fern")),
    Category("C02", "Perennials", "Grasses", "spring", 0.9, 4.2, (1, 2, 3),
             ("Feather Grass", "Moor Grass", "Blue Fescue", "Quaking Grass", "Hair Grass", "Oat Grass", "Wood Rush",
              "Tufted Sedge")),
    Category("C03", "Perennials", "Border Plants", "spring", 2.4, 4.0, (0.5, 1, 2, 3),
             ("Cranesbill", "Catmint", "Yarrow", "Bellflower", "Coneflower", "Lady's Mantle", "Masterwort",
              "Bleeding Heart")),
    Category("C04", "Perennials", "Alpines", "spring", 0.8, 5.2, (0.5, 1),
             ("Houseleek", "Saxifrage", "Thrift", "Gentian", "Rock Cress", "Stonecrop", "Pasque Flower", "Soapwort")),
    Category("C05", "Woody Plants", "Hedging", "autumn", 1.8, 2.6, (2, 3, 5, 10),
             ("Hornbeam", "Beech", "Hawthorn", "Privet", "Yew", "Holly", "Blackthorn", "Field Maple")),
    Category("C06", "Woody Plants", "Shrubs", "autumn", 1.7, 3.4, (2, 3, 5, 10),
             ("Hydrangea", "Lilac", "Mock Orange", "Dogwood", "Witch Hazel", "Spindle", "Smoke Bush", "Elder")),
    Category("C07", "Woody Plants", "Climbers", "spring", 1.0, 3.9, (2, 3, 5),
             ("Ivy", "Honeysuckle", "Clematis", "Wisteria", "Climbing Rose", "Jasmine", "Virginia Creeper",
              "Star Vine")),
    Category("C08", "Woody Plants", "Trees", "autumn", 0.7, 3.1, (10, 15, 25, 45),
             ("Silver Birch", "Rowan", "Crab Apple", "Hazel", "Wild Cherry", "Alder", "Lime", "Hedge Oak")),
    Category("C09", "Edibles", "Herbs", "spring", 1.9, 3.3, (0.5, 1),
             ("Thyme", "Sage", "Rosemary", "Mint", "Chives", "Marjoram", "Lovage", "Tarragon")),
    Category("C10", "Edibles", "Soft Fruit", "autumn", 0.9, 3.0, (2, 3, 5),
             ("Raspberry", "Blackcurrant", "Gooseberry", "Strawberry", "Redcurrant", "Blueberry", "Loganberry",
              "Tayberry")),
    Category("C11", "Edibles", "Vegetables", "spring", 1.3, 3.6, (0.5, 1),
             ("Tomato", "Courgette", "Kale", "Leek", "Chard", "Runner Bean", "Squash", "Pepper")),
    Category("C12", "Indoor", "Foliage", "even", 1.2, 5.8, (0.5, 1, 2, 5),
             ("Rubber Plant", "Swiss Cheese Plant", "Spider Plant", "Peace Lily", "Dragon Tree", "Prayer Plant",
              "Umbrella Plant", "Fig")),
    Category("C13", "Indoor", "Succulents", "even", 0.8, 6.4, (0.5, 1),
             ("Aloe", "Jade Plant", "Echeveria", "Haworthia", "Zebra Plant", "String of Pearls", "Burro's Tail",
              "Ghost Plant")),
    Category("C14", "Water", "Marginals", "spring", 0.5, 4.9, (1, 2, 3),
             ("Marsh Marigold", "Yellow Flag", "Water Mint", "Bulrush", "Bog Bean", "Arrowhead", "Brooklime",
              "Flowering Rush")),
    # Nothing is listed under this one: an empty category is a blemish that every real range has.
    Category("C15", "Water", "Floating Plants", "spring", 0.0, 4.9, (), ()),
)  # fmt: skip

CULTIVARS = (
    "Silver Lantern", "Morning Quill", "Copper Tide", "Winter Fable", "Pale Harbour", "Little Drum", "Amber Thread",
    "Moonpenny", "Tall Story", "Velvet Hour", "Snow Errand", "Lemon Parade", "Dusk Runner", "Blue Thimble",
    "Rosy Meander", "Quiet Ember",
)  # fmt: skip

REGIONS = {
    "North": ("Quillmoor", "Coldaspen", "Gorsewater", "Larkenby"),
    "East": ("Siltmouth", "Oxlip Hythe", "Fennelgate", "Wrenfold"),
    "South": ("Tansy Cross", "Umberholt", "Pellbridge", "Mothering Bay"),
    "West": ("Hobbletye", "Dunsparrow", "Ambersedge", "Marlowick"),
}

#: Kinds of customer: how many in a hundred, how large an order is beside the usual one, names they go by.
KINDS = {
    "garden centre": (26, 1.6, ("Garden Centre", "Plant Barn", "Potting Shed")),
    "landscaper": (34, 1.1, ("Landscapes", "Gardens & Grounds", "Planting Co.")),
    "shop": (28, 0.5, ("Flower Stall", "Greengrocer", "Corner Plants")),
    "council": (12, 2.2, ("Parks Office", "Town Gardens", "Verges & Parks")),
}

FAMILY_NAMES = (
    "Applewhit", "Barrowby", "Crumblehulme", "Dapplemere", "Eaverstone", "Fothergrove", "Gladwhistle", "Hathersby",
    "Inglefern", "Jessamere", "Kettlewood", "Lindlethorpe", "Mossenden", "Nettlefold-Rue", "Oakenshore", "Pondermill",
    "Quenby-Marsh", "Ravelstock", "Sorrelby", "Thistlewade", "Underhedge", "Vinterby", "Willowick-Grey", "Yarrowdale",
)  # fmt: skip
